"""History: how customers come and stay. Order by order, growth, cohorts, order counts,
breakdowns.
"""
