"""The real host, through the kernel's interfaces."""
