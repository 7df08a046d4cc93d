"""A folder watched while frames are shot: files that arrive -> shots, each judged while it can still be repeated.

Public here, each from the module named:

- ``folder``: ``WatchedFolder``, ``Arrival``
- ``bell``: ``Bell``
- ``tones``: ``samples``, ``RATE``
- ``bench``: ``Bench``, ``Judged``
- ``faults``: ``Fault``
"""
