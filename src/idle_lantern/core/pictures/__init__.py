"""Pictures of any size: kept on disk as tiled pyramids, read tile by tile.

Public here, each from the module named:

- ``source``: ``PictureSource``, ``HeldPicture``, ``region``, ``reduced``, ``TILE``
- ``tiled``: ``TiledPicture``, ``open_picture``
- ``operations``: ``Operation``, ``OperatedPicture``, ``CroppedPicture``, ``TilePlace``
- ``resized``: ``ResizedPicture``
- ``pyramid``: ``write_pyramid``, ``packed``, ``PyramidInfo``
"""
