"""Order rows in: a source to cells to rows; roles, how things are written, what becomes of a
row.
"""
