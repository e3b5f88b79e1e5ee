"""Conversions between types, strict by default: a value that does not fit is a fault, never bent."""

from kanal.core.conversions import numbers, temporal, text
from kanal.core.conversions.base import Conversion, Options, converter

__all__ = ["Conversion", "Options", "converter", "numbers", "temporal", "text"]
