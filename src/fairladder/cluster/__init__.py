"""Customers that stay on a cluster: measured, counted, scored and listed there. Only what is counted of them comes here."""
