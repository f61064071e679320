"""Order rows in: sources, roles, cells, set-aside rows, findings, balance."""
