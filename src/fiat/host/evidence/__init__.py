"""Evidence of the live host: what its packages own, what its services and its clock start, and how files begin."""
