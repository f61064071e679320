"""Write tables to files and databases, all or nothing."""
