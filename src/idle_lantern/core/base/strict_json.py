"""The one strict reader of JSON that comes from outside: size, depth, numbers and text are checked before anyone looks.

What passes holds finite numbers that fit into 64 bits, text without lone surrogates, and no more levels than
any document of the program needs, so that whoever reads on can convert and walk it without fear.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec

from idle_lantern.core.base.errors import InputError, LanternError

#: No document of the program comes near these.
MOST_BYTES, MOST_DEPTH = 64_000_000, 40
_TOO_LARGE = "Holds a number that is too large to be used"
_BYTE_MARK = b"\xef\xbb\xbf"
_UTF_16_OR_32 = (b"\xff\xfe", b"\xfe\xff", b"\0\0\xfe\xff")


def read_json(path: Path, *, error: type[LanternError] = InputError, remedy: str = "") -> Any:
    """The JSON in a file; see ``parse_json``.

    Raises
    ------
    LanternError
        Of the kind ``error``; the file is missing, cannot be read, or holds no such JSON.
    """
    return parse_json(read_bytes(path, error=error, remedy=remedy), str(path), error=error, remedy=remedy)


def read_bytes(path: Path, *, error: type[LanternError] = InputError, remedy: str = "") -> bytes:
    """A file's bytes, no more than ``MOST_BYTES``.

    Raises
    ------
    LanternError
        Of the kind ``error``; the file is missing, too large, or cannot be read.
    """
    try:
        with open(path, "rb") as stream:  # a special file tells no size: what is read is counted, not what is promised
            data = stream.read(MOST_BYTES + 1)
    except OSError as cause:
        raise error(f"Cannot be read ({cause.strerror})", where=str(path), remedy=remedy or "Check the name") from cause
    except (ValueError, MemoryError) as cause:  # a name with a zero byte; a machine without memory
        raise error("Cannot be read", where=str(path), remedy=remedy or "Check the name") from cause
    if len(data) > MOST_BYTES:
        raise error(f"Is larger than {MOST_BYTES / 1e6:.0f} MB", where=str(path), remedy=remedy)
    return data


def read_text(path: Path) -> str:
    """A file of UTF-8 text.

    Raises
    ------
    InputError
        It is missing, too large, or no such text.
    """
    return decoded(read_bytes(path), str(path))


def decoded(data: bytes, where: str, *, error: type[LanternError] = InputError, remedy: str = "") -> str:
    """UTF-8 bytes, with or without a byte order mark, as text.

    Raises
    ------
    LanternError
        Of the kind ``error``; names the line.
    """
    if data.startswith(_UTF_16_OR_32):
        raise error("Is UTF-16 or UTF-32 text", where=where, remedy=remedy or "Save it as UTF-8")
    try:
        return data.removeprefix(_BYTE_MARK).decode("utf-8")
    except UnicodeDecodeError as cause:
        line = data.count(b"\n", 0, cause.start) + 1
        raise error(f"Is no UTF-8 text at line {line}", where=where, remedy=remedy or "Save it as UTF-8") from cause


def parse_json(data: bytes, where: str = "", *, error: type[LanternError] = InputError, remedy: str = "") -> Any:
    """JSON bytes as plain values.

    Raises
    ------
    LanternError
        Of the kind ``error``: too large, not UTF-8, no JSON, nested too deep, or with a number or a text
        that no document holds. ``remedy`` says what to do.
    """
    if len(data) > MOST_BYTES:
        raise error(f"Is {len(data) / 1e6:.0f} MB, more than {MOST_BYTES / 1e6:.0f} MB", where=where, remedy=remedy)
    data = decoded(data, where, error=error, remedy=remedy).encode()
    try:
        value = msgspec.json.decode(data)
    except RecursionError as cause:
        raise error("Is nested too deep", where=where, remedy=remedy) from cause
    except msgspec.ValidationError as cause:  # what is well formed and cannot be held
        raise error(_TOO_LARGE, where=where, remedy=remedy) from cause
    except (msgspec.DecodeError, ValueError) as cause:
        line = _line_of(cause, data)
        raise error(f"Is not JSON, or is damaged at line {line}", where=where, remedy=remedy) from cause
    fault = _fault_in(value)
    if fault:
        raise error(fault, where=where, remedy=remedy)
    return value


def whole_numbers(value: Any) -> Any:
    """The same values, with numbers like 3.0, which other programs write for 3, as whole ones."""
    if isinstance(value, dict):
        return {key: whole_numbers(v) for key, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [whole_numbers(v) for v in value]
    return int(value) if isinstance(value, float) and value.is_integer() and abs(value) < 2**53 else value


def _fault_in(value: Any) -> str:
    """What no document holds; a walk without recursion, since the depth is what is asked."""
    level = [value]
    for _ in range(MOST_DEPTH):
        below: list[Any] = []
        for thing in level:
            if isinstance(thing, dict):
                below += thing.values()
            elif isinstance(thing, list):
                below += thing
            elif isinstance(thing, int) and not -(2**63) <= thing < 2**63:
                return _TOO_LARGE
        if not below:
            return ""
        level = below
    return "Is nested too deep"


def _line_of(error: Exception, data: bytes) -> int:
    """The line that a decoder's message points to."""
    digits = str(error).rpartition("byte ")[2].rstrip(")")
    at = int(digits) if digits.isdecimal() and digits.isascii() and len(digits) < 12 else len(data)
    return data.count(b"\n", 0, at) + 1
