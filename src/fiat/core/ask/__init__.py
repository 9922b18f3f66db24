"""Who may do what, and why; what a change does to people; what is to be known besides."""
