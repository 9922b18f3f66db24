"""What would have to change for a wish to come true."""
