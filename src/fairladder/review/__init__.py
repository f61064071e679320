"""Second looks at scores: what changed between two days, why a customer is where they are, how
settled it is.
"""
