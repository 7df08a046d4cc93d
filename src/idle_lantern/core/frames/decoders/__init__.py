"""One module for each kind of file; ``reading`` chooses between them.

Each has ``head(path) -> Head`` and ``pixels(path, ...) -> Picture``. Decoders that turn the picture themselves
say so by an orientation of 1.
"""
