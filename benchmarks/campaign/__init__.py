"""A bad day, on purpose: damaged files and documents, kills, full disks, starved memory, two windows at once.

Small with every test run (``test_bad_day_commands.py``), as large as wanted by ``./lantern test --campaign 10000``.
Everything follows from seeds, so that what went wrong once can be made to go wrong again.
"""
