"""The functions of expressions, by what they work on; importing this registers them."""

from kanal.core.expressions.functions import numeric, text

__all__ = ["numeric", "text"]
