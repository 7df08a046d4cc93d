"""Pictures of any size: kept on disk as tiled pyramids, read tile by tile.

Public here, each from the module named:

- ``source``: ``PictureSource``, ``HeldPicture``, ``region``, ``reduced``
- ``tiled``: ``TiledPicture``, ``open_picture``
- ``pyramid``: ``TILE``, ``write_pyramid``, ``packed``, ``PyramidInfo``
"""
