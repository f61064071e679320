"""Write and try the first scheme for an export."""
