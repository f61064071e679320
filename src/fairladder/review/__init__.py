"""Review scores: what changed between two days, why a customer is in a segment, and how stable that
is.
"""
