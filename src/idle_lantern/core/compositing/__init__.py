"""A solution -> the picture: how frames lie on it (``canvas``), light, seams, gaps at the rim, and tiles (``render``)."""
