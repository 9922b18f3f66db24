"""Pictures, and a page to hand over: a module for each kind."""
