"""The computation: rotations, skeletons, clips, tying, stance and transfer, on NumPy arrays.

Conventions: right-handed, Y up, metres, radians, seconds; a figure faces +Z at rest, so that its
own left is +X. Quaternions are ``x, y, z, w``. Joints stand in parent-before-child order.
Nothing here imports another package of the product, and nothing knows of an interface.
"""
