"""A picture that was made -> the places in it that a careful eye would look at first, and why.

Public here, each from the module named:

- ``suspect``: ``Suspect``
- ``find``: ``look_over``, ``find_suspects``, ``LookedOver``
- ``ghosts``: ``Ghost``, ``GhostPlace``, ``ghosts_of``
- ``overlaps``: ``Overlap``, ``overlaps_of``
- ``sharpness``: ``compared``, ``blurs``
"""
