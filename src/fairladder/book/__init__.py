"""Reading orders: the reduction to customers, the balance of rows, set-aside rows, findings and
measures.
"""
