"""Finishing a joined picture without touching it: a recipe of steps, the same on a reduced picture and on the full one.

- ``step``: what a step is, ``steps``: one module for each, ``registry``: all of them
- ``masks``: where a step works, ``drawn``: those that are drawn by hand, ``strengths``: what they share
- ``tile_look``: what steps and masks may ask of a tile
- ``recipe``: the steps in their order, as JSON
- ``finishing``: a recipe bound to a picture
"""
