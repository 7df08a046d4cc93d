"""What evens the frames out before they are blended, solved from their overlaps.

Public here, each from the module named:

- ``dust``: ``Spot``, ``alike_held``, ``dust_masks``, ``spots``
- ``vignetting``: ``Vignetting``, ``solve_vignetting``, ``without_vignetting``
- ``gains``: ``solve_gains``, ``with_gain``
"""
