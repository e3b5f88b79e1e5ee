"""Parts the text of a command into its statements, by a parser that knows quotes, comments and bodies of routines."""

from __future__ import annotations

from kanal.core.errors import KanalError

#: What a routine, a trigger or an event is made by; its body has statements of its own.
_WITH_BODY = frozenset({"PROCEDURE", "FUNCTION", "TRIGGER", "EVENT", "PACKAGE"})
_OPENS = frozenset({"BEGIN", "CASE", "LOOP", "REPEAT", "WHILE", "IF"})
_MADE_BY = 8
#: Words behind which IF begins a statement, and is no function.
_BEFORE_IF = frozenset({";", "BEGIN", "THEN", "ELSE", "DO", "LOOP", "REPEAT"})


def split_statements(sql: str, dialect: str | None) -> list[str]:
    """The statements of a text, without those that are mere comments; raises KanalError if a quote is open."""
    from sqlglot.dialects.dialect import Dialect
    from sqlglot.errors import TokenError
    from sqlglot.tokens import TokenType  # type: ignore[attr-defined]

    try:
        tokens = Dialect.get_or_raise(dialect).tokenize(sql)
    except TokenError:
        raise KanalError("the SQL cannot be read: a quote or comment is not closed", "close it") from None
    found: list[str] = []
    begin = 0
    current: list[str] = []
    depth = 0
    for token in tokens:
        word = token.text.upper()
        if token.token_type == TokenType.SEMICOLON and depth <= 0:
            if current:
                found.append(sql[begin : token.start].strip())
            begin, current, depth = token.end + 1, [], 0
            continue
        if token.token_type not in (TokenType.STRING, TokenType.IDENTIFIER, TokenType.SEMICOLON):
            depth += _step(word, current)
        current.append(word)
    if current:
        found.append(sql[begin:].strip())
    return found


def _step(word: str, before: list[str]) -> int:
    """How much deeper a word leads into the body of a routine."""
    if not before or before[0] != "CREATE" or not _WITH_BODY & set(before[:_MADE_BY]):
        return 0
    if word == "END":
        return 0 if before[-1] == "END" else -1
    # END IF, END LOOP and the like close what opened; IF EXISTS and IF( open nothing.
    if word not in _OPENS or before[-1] == "END" or (word == "IF" and before[-1] not in _BEFORE_IF):
        return 0
    return 0 if word != "BEGIN" and "BEGIN" not in before else 1
