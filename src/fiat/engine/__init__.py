"""Many pieces of work, done by several processes."""
