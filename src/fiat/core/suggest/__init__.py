"""What would have to change for a wish to come true.

The door of this room is ``advice``.
"""
