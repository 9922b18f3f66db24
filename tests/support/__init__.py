"""What tests share: file systems, the kernel as judge, the built program, worlds and estates, generators, files."""
