"""Conversions between types, strict by default: a value that does not fit is a fault, never bent."""

from kanal.core.conversions import numbers, temporal, text
from kanal.core.conversions.base import Conversion, Example, Options, all_examples, converter

__all__ = ["Conversion", "Example", "Options", "all_examples", "converter", "numbers", "temporal", "text"]
