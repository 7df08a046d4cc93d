"""Links -> where the frames belong: rotations, lens, parallax, level, and what is left out and why.

Public here, each from the module named:

- ``solve``: ``solve``, ``Solution``
- ``poses``: ``Poses``, ``reassigned``
- ``covered_field``: ``Field``, ``field_of``
- ``adjust``: ``adjust``, ``best_lens``, ``initial_rotations``
- ``refine_solution``: ``refine_solution``
- ``tie_points``: ``register_tie_points``
- ``parallax``: ``Parallax``, ``solve_parallax``
- ``hand_held``: ``HandHeld``, ``solve_hand_held``
- ``placing``: ``placed``, ``placing_in_words``
- ``prior``: ``prior_for``, ``read_prior``
"""
