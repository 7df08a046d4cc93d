"""Practice in the invented place: exercises graded by what becomes of the picture, and single faults shown side by side.

Public here, each from the module named:

- ``course``: ``EXERCISES``, ``exercise``, ``attempt``, ``Attempt``, ``carried_out``, ``checked``, ``in_words``
- ``exercise``: ``Exercise``, ``Amount``, ``Alternative``, ``Knob``, ``Grade``, ``graded``, ``scored``
- ``faults``: ``FAULTS``, ``Fault``, ``fault``
- ``record``: ``RecordRow``, ``read_rows``, ``add_row``, ``best``, ``practice_file``, ``practised``, ``PASSED``
- ``conduct``: ``Situation``, ``Conduct``, ``Take``, ``take``
- ``consequences``: ``Figures``, ``Outcome``, ``outcome_of``, ``as_it_is``
"""
