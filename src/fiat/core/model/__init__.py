"""Values: what an access rule knows of objects, accounts and hosts."""
