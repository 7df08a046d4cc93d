"""The rim of a picture: bent to a rectangle, or filled."""
