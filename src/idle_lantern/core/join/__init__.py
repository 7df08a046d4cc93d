"""From a set of frames to one seamless picture, in stages with plain data between them."""
