"""Rough pictures of a place -> a ground to plan on, and what they tell of it: horizon, light, detail, direction.

Public here, each from the module named:

- ``ground``: ``Ground``, ``Glance``, ``make_ground``
- ``readings``: ``readings_of``
- ``detail``: ``detail_of``
- ``facing``: ``by_compass``, ``by_sun``
- ``report``: ``as_json``, ``as_text``
- ``scout_picture``: ``ScoutPicture``, ``front``, ``on_map``, ``share_about``, ``skyline_on_map``, ``height_towards``: what an outing keeps, without the engine
- ``scout``: ``scouted``, ``from_joined``, ``laid_beside``, ``turn_between``
- ``reprojection``: ``ReprojectedScouts``, ``read_reprojected``, ``canvas_of``, ``moved``, ``drawn``, ``on_sphere``, ``on_canvas``, ``through_lens``, ``as_bytes``
- ``foreseen``: ``Foreseen``, ``foresee``, ``foreseen_canvas``
- ``remarks``: ``judge_scouted``, ``ScoutedFacts``, ``facts_of``, ``sun_and_skyline``, ``skyline_towards``, ``bare_frames``, ``details_of``, ``lowered_deg``, ``readings_for``
- ``compared``: ``Deviation``, ``deviation``
- ``distance``: ``Distances``, ``distances``, ``of_photographs``
- ``changed``: ``changes``
- ``plan_transfer``: ``Change``, ``in_field``, ``frames_with``, ``planned_for``
- ``lines``: ``lines_of``, ``bow``
- ``skyline``: ``skyline_of``, ``sky_over``
"""
