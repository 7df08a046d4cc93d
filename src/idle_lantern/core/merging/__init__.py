"""Several exposures of one place -> one frame: lying on each other, fused or merged, what moved taken from one.

Public here:

- ``fusion``: fuse
- ``radiance``: ``merge``
- ``aligning``: on_base
- ``prepared``: prepare, Prepared, Exposure
"""
