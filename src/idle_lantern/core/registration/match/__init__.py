"""Frames -> points, matches and verified links.

Public here, each from the module named:

- ``detect``: ``detect_and_match``, ``Matched``
- ``features``: ``Features``, ``WorkingFrame``, ``find_features``, ``quick_features``, ``working_frame``
- ``links``: ``Link``, ``best_tied``, ``groups_of``
- ``pairs``: ``candidate_pairs``, ``match``, ``match_pair``
- ``verify``: ``acceptable``, ``rotation_between``, ``verify``
- ``lens_guess``: ``camera_groups``, ``guess_lenses``, ``known_lenses``
"""
