"""The ways of rounding: each with its name in Arrow and in Python's decimal module."""

from __future__ import annotations

import decimal

#: Option: (Arrow's round mode, Python's decimal rounding). half_up rounds halves away from zero.
ROUNDING: dict[str, tuple[str, str]] = {
    "floor": ("down", decimal.ROUND_FLOOR),
    "ceiling": ("up", decimal.ROUND_CEILING),
    "half_up": ("half_towards_infinity", decimal.ROUND_HALF_UP),
    "half_even": ("half_to_even", decimal.ROUND_HALF_EVEN),
    "toward_zero": ("towards_zero", decimal.ROUND_DOWN),
}
#: Enough digits for any exact step on values of at most 76 digits.
EXACT = decimal.Context(prec=400, Emin=-999999, Emax=999999, traps=[decimal.InvalidOperation])
