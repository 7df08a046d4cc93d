"""Files as they come from a card -> runs of positions, and what each file is for. Nothing is written or moved.

Public here:

- ``card``: sort, Card, Run
- ``positions``: Position, Role
- ``previews``: Look, look_at
"""
