"""The two ways in which work ends early without being a defect."""


class InputError(Exception):
    """Something the user gave can't be used; the message is one clear sentence for them."""


class Cancelled(Exception):
    """The user asked a long job to stop."""
