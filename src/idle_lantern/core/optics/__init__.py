"""Lenses whose numbers are known before a join: measured by oneself, or from the open lens database.

Public here:

- ``known``: KnownLens, read_lens
- ``database``: lens_from_database
"""
