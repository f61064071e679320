"""Read order rows: sources, column roles, formats of dates and numbers, and the state of each
row.
"""
