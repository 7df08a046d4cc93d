"""A folder watched while frames are shot: files that arrive -> shots, each judged while it can still be repeated.

Public here, each from the module named:

- ``folder``: ``WatchedFolder``, ``Arrival``
- ``file_events``: ``FolderEvents``
- ``tones``: ``samples``, ``RATE``
- ``live_check``: ``LiveCheck``, ``Judged``
- ``faults``: ``FrameFault``
"""
