"""Keys from criteria."""

import hashlib
import json
import math
from typing import Any


def stable_key(prefix: str, criteria: Any) -> str:
    """A key from criteria, the same as `verax key` and the Rust client make: the prefix, and half the
    SHA-256 of the criteria as canonical JSON (RFC 8785)."""
    if not prefix or ":" in prefix or len(prefix.encode()) > 200:
        raise ValueError(f"{prefix!r} cannot begin a key: use 1 to 200 bytes without a colon")
    return f"{prefix}:{hashlib.sha256(_canonical(criteria).encode()).hexdigest()[:32]}"


def _canonical(value: Any) -> str:
    if value is None or isinstance(value, (bool, str)):
        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, (int, float)):
        return _number(float(value))
    if isinstance(value, (list, tuple)):
        return "[" + ",".join(map(_canonical, value)) + "]"
    if isinstance(value, dict):
        if not all(isinstance(name, str) for name in value):
            raise TypeError("the names of criteria must be texts")
        # By UTF-16 code units, as the RFC asks.
        names = sorted(value, key=lambda name: name.encode("utf-16-be"))
        return "{" + ",".join(_canonical(n) + ":" + _canonical(value[n]) for n in names) + "}"
    raise TypeError(f"{type(value).__name__} makes no JSON")


def _number(number: float) -> str:
    """A double as ECMAScript writes it (RFC 8785, section 3.2.2.3)."""
    if not math.isfinite(number):
        raise ValueError(f"{number} makes no JSON")
    if number == 0:
        return "0"
    sign = "-" if number < 0 else ""
    digits, _, exponent = f"{abs(number)!r}".partition("e")
    whole, _, part = digits.partition(".")
    point = len(whole) + int(exponent or "0")
    digits = (whole + part).lstrip("0")
    point -= len(whole + part) - len(digits)
    digits = digits.rstrip("0")
    if 0 < point <= 21:
        if len(digits) <= point:
            return sign + digits.ljust(point, "0")
        return f"{sign}{digits[:point]}.{digits[point:]}"
    if -6 < point <= 0:
        return f"{sign}0.{'0' * -point}{digits}"
    power = point - 1
    first, rest = digits[0], digits[1:]
    return f"{sign}{first}{'.' + rest if rest else ''}e{'+' if power > 0 else '-'}{abs(power)}"
