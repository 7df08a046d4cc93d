"""A careful look at every frame of a run against its neighbours: what would hurt the join, with figures and remedies.

Public here:

- ``audit``: audit_card, CardReport, RunReport
- ``findings``: Finding
"""
