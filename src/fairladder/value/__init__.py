"""Lifetime value: quick, by formula, and forecast from ordering and spend models that are
tested on held-back months.
"""
