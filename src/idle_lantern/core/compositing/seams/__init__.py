"""Which frame wins where.

Public here, each from the module named:

- ``graph_cut``: ``find_seams``
"""
