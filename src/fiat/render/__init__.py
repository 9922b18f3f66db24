"""How results look: text, JSON, JSON Lines, CSV."""
