"""Put customers on ladders: scores, segments, tiers, top lists, saved ladders, the scheme as SQL,
fairness.
"""
