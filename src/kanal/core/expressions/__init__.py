"""ISO SQL scalar expressions, compiled once and evaluated over Arrow batches."""

from kanal.core.expressions import functions
from kanal.core.expressions.compiler import Expression, Scope, compile_expression

__all__ = ["Expression", "Scope", "compile_expression", "functions"]
