"""Contacts: where feet, hands, knees and the seat are held still against something."""
