"""Rough pictures of a place -> a ground to plan on, and what they tell of it: horizon, light, detail, direction.

Public here, each from the module named:

- ``ground``: ``Ground``, ``Glance``, ``make_ground``
- ``readings``: ``readings_of``
- ``detail``: ``detail_of``
- ``facing``: ``by_compass``, ``by_sun``
- ``report``: ``as_json``, ``as_text``
"""
