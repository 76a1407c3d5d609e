"""The small language of `check`, `when`, `until` and `keep`: comparisons, arithmetic, and/or/not, membership, a fixed
set of functions.

The rule: what is not on the list cannot be written; nothing can be reached through it, and nothing it does can take
long or grow without bound. Numbers are exact. Text and numbers are never compared by accident.
"""

from __future__ import annotations

import ast
import operator
import warnings
from collections.abc import Callable, Mapping
from decimal import Decimal, DecimalException
from functools import lru_cache
from inspect import signature
from typing import Any

from wexicon.core.dialogue.functions import FUNCTIONS
from wexicon.core.text import Secret, meant, plain

LONGEST_SOURCE = 2000
_LARGEST_NUMBER = Decimal(10) ** 30
_LONGEST_VALUE = 1_048_576
_DEEPEST = 40


class ExpressionFault(ValueError):
    """An expression that cannot be read or evaluated; `column` (from 1) says where."""

    def __init__(self, what: str, column: int = 1, hint: str = "") -> None:
        super().__init__(what)
        self.what, self.column, self.hint = what, column, hint


_COMPARES: dict[type, Callable[[Any, Any], bool]] = {
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
    ast.In: lambda a, b: a in b,
    ast.NotIn: lambda a, b: a not in b,
}
_ARITHMETIC: dict[type, Callable[[Any, Any], Any]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: lambda a, b: Decimal(a) / Decimal(b),
    ast.FloorDiv: operator.floordiv,
    ast.Mod: operator.mod,
}
_WORDS = {"true": True, "false": False}
_HINT = "comparisons, arithmetic, and/or/not, in, or one of: " + ", ".join(sorted(FUNCTIONS))


class Expression:
    """An expression, read once. `names` are the values that it needs."""

    __slots__ = ("_tree", "names", "source")

    def __init__(self, source: str) -> None:
        self.source = source
        if len(source) > LONGEST_SOURCE:
            raise ExpressionFault(f"longer than {LONGEST_SOURCE} characters")
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error", SyntaxWarning)
                self._tree = ast.parse(source.strip() or "?", mode="eval").body
        except SyntaxError as fault:
            raise ExpressionFault("cannot be read", max(fault.offset or 1, 1), _HINT) from None
        except (ValueError, MemoryError, RecursionError):
            raise ExpressionFault("cannot be read", 1, _HINT) from None
        self.names: list[str] = []
        self._allow(self._tree, 0)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Expression) and self.source == other.source

    def __hash__(self) -> int:
        return hash(self.source)

    def _allow(self, node: ast.AST, depth: int) -> None:
        """Refuses any syntax that is not on the list."""
        column = getattr(node, "col_offset", 0) + 1
        if depth > _DEEPEST:
            raise ExpressionFault("is nested too deep", column)
        parts: list[ast.AST] = []
        if isinstance(node, ast.Name):
            if node.id not in self.names and node.id not in _WORDS:
                self.names.append(node.id)
        elif isinstance(node, ast.Constant):
            if not isinstance(node.value, (bool, int, float, str)):
                raise ExpressionFault(f"{node.value!r} is not allowed here", column, _HINT)
        elif isinstance(node, ast.BoolOp):
            parts = list(node.values)
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.Not, ast.USub)):
            parts = [node.operand]
        elif isinstance(node, ast.BinOp) and type(node.op) in _ARITHMETIC:
            parts = [node.left, node.right]
        elif isinstance(node, ast.Compare) and all(type(op) in _COMPARES for op in node.ops):
            parts = [node.left, *node.comparators]
        elif isinstance(node, (ast.List, ast.Tuple)):
            parts = list(node.elts)
        elif isinstance(node, ast.Subscript) and not isinstance(node.slice, ast.Slice):
            parts = [node.value, node.slice]
        elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and not node.keywords:
            if node.func.id not in FUNCTIONS:
                raise ExpressionFault(
                    f"uses {node.func.id}, which is not a function", column, meant(node.func.id, FUNCTIONS)
                )
            self._require_arguments(node.func.id, len(node.args), column)
            parts = list(node.args)
        else:
            raise ExpressionFault("this is not allowed here", column, _HINT)
        for part in parts:
            self._allow(part, depth + 1)

    @staticmethod
    def _require_arguments(name: str, count: int, column: int) -> None:
        """Raises ExpressionFault if a function takes another number of values."""
        try:
            takes = signature(FUNCTIONS[name])
        except ValueError:  # min and its like take any number
            return
        try:
            takes.bind(*range(count))
        except TypeError:
            told = ", ".join(str(one).partition(":")[0] for one in takes.parameters.values())
            raise ExpressionFault(f"{name} takes other values than these {count}", column, f"{name}({told})") from None

    def value(self, known: Mapping[str, object]) -> object:
        """What it comes to: a Secret where one of its values is. Raises ExpressionFault."""
        if not any(isinstance(known.get(name), Secret) for name in self.names):
            return self._value(self._tree, known)
        try:
            return Secret(self._value(self._tree, {name: plain(value) for name, value in known.items()}))
        except ExpressionFault as fault:
            raise ExpressionFault("cannot be evaluated with this secret value", fault.column, fault.hint) from None

    def _value(self, node: ast.AST, known: Mapping[str, Any]) -> Any:
        column = getattr(node, "col_offset", 0) + 1
        if isinstance(node, ast.Name):
            if node.id in _WORDS:
                return _WORDS[node.id]
            if node.id not in known:
                raise ExpressionFault(f"{node.id} has no value here", column, meant(node.id, known))
            return known[node.id]
        if isinstance(node, ast.Constant):
            return Decimal(str(node.value)) if isinstance(node.value, float) else node.value
        if isinstance(node, ast.BoolOp):
            every = isinstance(node.op, ast.And)
            for part in node.values:
                if bool(self._value(part, known)) != every:
                    return not every
            return every
        if isinstance(node, (ast.List, ast.Tuple)):
            return _bounded([self._value(part, known) for part in node.elts])
        try:
            return _bounded(self._computed(node, known, column))
        except ExpressionFault:
            raise
        except (
            TypeError,
            ValueError,
            IndexError,
            KeyError,
            AttributeError,
            ArithmeticError,
            DecimalException,
        ) as fault:
            raise ExpressionFault(f"cannot be evaluated: {_why(fault)}", column) from None

    def _computed(self, node: ast.AST, known: Mapping[str, Any], column: int) -> Any:
        if isinstance(node, ast.UnaryOp):
            value = self._value(node.operand, known)
            return not value if isinstance(node.op, ast.Not) else -value
        if isinstance(node, ast.BinOp):
            left, right = self._value(node.left, known), self._value(node.right, known)
            if not isinstance(node.op, ast.Add) and not (_is_number(left) and _is_number(right)):
                raise ExpressionFault("arithmetic needs numbers", column, "capture them as {name:int}")
            return _ARITHMETIC[type(node.op)](left, right)
        if isinstance(node, ast.Compare):
            left = self._value(node.left, known)
            for op, part in zip(node.ops, node.comparators, strict=True):
                right = self._value(part, known)
                if not isinstance(op, (ast.In, ast.NotIn)) and _is_number(left) != _is_number(right):
                    raise ExpressionFault(
                        "compares a number with text", column, "capture it as {name:int}, or use number(...)"
                    )
                if not _COMPARES[type(op)](left, right):
                    return False
                left = right
            return True
        if isinstance(node, ast.Subscript):
            return self._value(node.value, known)[self._value(node.slice, known)]
        assert isinstance(node, ast.Call) and isinstance(node.func, ast.Name)
        # What only a lexicon can do stands among the values, under a name that no value can have.
        function = known.get(f"{node.func.id}()", FUNCTIONS[node.func.id])
        return function(*(self._value(part, known) for part in node.args))


def _why(fault: Exception) -> str:
    """Why a function could not do it; messages of other libraries are left out."""
    if isinstance(fault, (IndexError, KeyError)):
        return "there is no such part"
    if isinstance(fault, ZeroDivisionError):
        return "a division by zero"
    if isinstance(fault, (ArithmeticError, DecimalException)):
        return "this is not a number"
    if isinstance(fault, (TypeError, AttributeError)):
        return "a function is given a value of another kind than it takes"
    return str(fault)


def _is_number(value: object) -> bool:
    return isinstance(value, (int, Decimal))


def _bounded(value: object) -> object:
    if isinstance(value, (int, Decimal)) and not -_LARGEST_NUMBER <= value <= _LARGEST_NUMBER:
        raise ExpressionFault("becomes too large a number")
    if isinstance(value, (str, list)) and _size(value, _LONGEST_VALUE) > _LONGEST_VALUE:
        raise ExpressionFault("becomes too long a text" if isinstance(value, str) else "becomes too large a list")
    return value


def _size(value: object, most: int) -> int:
    """How many characters and parts a value has, those of lists in lists too; not counted further than `most`."""
    if not isinstance(value, (list, tuple, dict)):
        return len(value) if isinstance(value, str) else 1
    size = 1
    for part in value.values() if isinstance(value, dict) else value:
        size += _size(part, most - size)
        if size > most:
            break
    return size


@lru_cache(maxsize=4096)
def expression(source: str) -> Expression:
    """The expression of a source, read once however often it is asked for."""
    return Expression(source)
