"""ISO SQL scalar expressions, compiled once and evaluated over Arrow batches."""

from kanal.core.expressions import functions
from kanal.core.expressions.scope import Expression, Scope, bare_column

__all__ = ["Expression", "Scope", "compile_expression", "functions"]


def compile_expression(text: str, scope: Scope) -> Expression:
    """The expression of an SQL text over the names in scope.

    Raises ExpressionError, with the position in the text if it is known, for anything that is not understood:
    syntax, a column, function or parameter that does not exist, types that do not go together.
    """
    found = bare_column(text, scope)
    if found is None:
        from kanal.core.expressions import compiler  # which brings the parser

        found = compiler.compiled(text, scope)
    return found
