"""The printer: kernels as C99, with the same bits."""

from __future__ import annotations

import ast
from collections.abc import Iterable, Iterator

from pivrex.kernels.expressions import IN_C, KIND_WORDS, Scope, Typed, own_name
from pivrex.kernels.sources import Field, Module, digest, read, refusal

__all__ = ["Printer", "printed"]

_HEAD = """\
/* The kernels of Pivrex as C99, printed by pivrex.kernels.printer: change the kernels, not this. */
#include <math.h>
#include <stdint.h>
#include <string.h>
#ifdef _WIN32
#define SHOWN __declspec(dllexport)
#else
#define SHOWN __attribute__((visibility("default")))
#endif
#ifdef __GNUC__
#define ROOT __builtin_sqrt
#else
#define ROOT sqrt
#endif
static inline double m_div(double a, double b) { return a / b; }
static inline int m_is_nan(double x) { return x != x; }
static inline double m_sqrt(double x) { return x >= 0.0 ? ROOT(x) : NAN; }
static inline double m_sin(double x) { return sin(x); }
static inline double m_cos(double x) { return cos(x); }
static inline double m_atan2(double y, double x) { return atan2(y, x); }
static inline double m_exp(double x) { return x < 709.0 ? exp(x) : x >= 709.0 ? INFINITY : NAN; }
static inline double m_floor(double x) { return floor(x) + 0.0; }
static inline double m_rint(double x) { return rint(x) + 0.0; }
static inline double m_copysign(double x, double y) { return copysign(x, y); }
static inline double m_larger(double a, double b) { return (a > b || a != a ? a : b) + 0.0; }
static inline double m_smaller(double a, double b) { return (a < b || a != a ? a : b) + 0.0; }
static inline double m_clamp(double x, double low, double high) { return x > high ? high : x < low ? low : x; }
static inline double m_hypot(double x, double y) { return m_sqrt(x * x + y * y); }
static inline int64_t m_whole(double x) { return x > -0x1p62 && x < 0x1p62 ? (int64_t)x : 0; }
static inline double m_abs(double x) { return x < 0.0 ? -x : x + 0.0; }
static inline int64_t i_max(int64_t a, int64_t b) { return a > b ? a : b; }
static inline int64_t i_min(int64_t a, int64_t b) { return a < b ? a : b; }
static inline int64_t i_abs(int64_t n) { return n < 0 ? -n : n; }
static inline int64_t i_mod(int64_t a, int64_t b) { int64_t r = a % b; return r != 0 && (r < 0) != (b < 0) ? r + b : r; }
static double m_mod(double a, double b) {
    if (b == 0.0 || !(a > -INFINITY && a < INFINITY)) return NAN;
    double r = fmod(a, b);
    if (r != 0.0) return (b < 0.0) != (r < 0.0) ? r + b : r;
    return copysign(0.0, b);
}
static inline double m_wrap(double x) { return m_mod(x + 0x1.921fb54442d18p+1, 0x1.921fb54442d18p+2) - 0x1.921fb54442d18p+1; }
"""


def printed(modules: Iterable[Module] | None = None, version: str = "") -> str:
    """Return the C source of kernels; of all that Pivrex has if none are given. Raises `KernelError` for what is not in the subset."""
    modules = list(modules) if modules is not None else read()
    parts = [_HEAD, f'SHOWN const char *pivrex_version(void) {{ return "{version or digest()}"; }}\n']
    records = {name: fields for module in modules for name, fields in module.records.values()}
    parts += [_record(name, fields) for name, fields in records.items()]
    own = [f for module in modules for f in module.functions.values() if f.module is module]
    functions = {f.name: f for f in own}
    for one in own:
        if functions[one.name] is not one:
            raise refusal(one.module, one.node, f"another kernel is called {one.name} too")
    scopes = [Printer(function, records) for function in functions.values()]
    parts += [scope.result_type() + scope.head() + ";\n" for scope in scopes]
    bodies = [scope.printed() for scope in scopes]
    tables = dict(table for scope in scopes for table in scope.tables.items())
    parts += [f"static double {name}[] = {{{', '.join(values)}}};\n" for name, values in tables.items()]
    return "".join([*parts, *bodies, *(_shown(s) for s in scopes if s.is_shown)])


def dimensions(fields: dict[str, Field]) -> list[str]:
    """Return the names of a record's dimensions, in the order of their first use."""
    return list(dict.fromkeys(d for f in fields.values() for d in f.shape if isinstance(d, str)))


def _record(name: str, fields: dict[str, Field]) -> str:
    """Print a record: a pointer to each field, and the sizes; the table of its form says where they are."""
    named = dimensions(fields)
    parts = [f for f, one in fields.items() if one.kind not in IN_C]
    lines = [f"typedef struct {{ {' '.join(_member(f, one) for f, one in fields.items())}"]
    lines.append(f"    int64_t {', '.join(['n_' + d for d in named] + ['size_of_all'])}; double *all;")
    lines += [f"}} {name};", f"static inline void bind_{name}({name} *r, double *at, const int64_t *form) {{"]
    lines.append(f"    r->all = at; r->size_of_all = form[{len(fields) + len(named)}];")
    for k, (own, one) in enumerate(fields.items()):
        if one.kind in IN_C:
            lines.append(f"    r->{own_name(own)} = at + form[{k}];")
        else:
            table = len(fields) + len(named) + 1 + parts.index(own)
            lines.append(f"    bind_{one.kind}(&r->{own_name(own)}, at + form[{k}], form + form[{table}]);")
    lines += [f"    r->n_{d} = form[{len(fields) + k}];" for k, d in enumerate(named)]
    return "\n".join([*lines, "}", ""])


def _shown(scope: Printer) -> str:
    """Print what is called from outside: a kernel for each of n robots. A stride of 0 is one record for all of them, and a number
    without a place stands in ``number``. An index says which record each robot has; without one, its own.
    """
    given, numbers, records, firsts, binds = [], 0, [], [], []
    for k, arg in enumerate(scope.args.values()):
        at = f"at[{k}] + (index && index[{k}] ? index[{k}][k] : k) * stride[{k}]"
        if arg.kind == "record":
            records.append(f"    {arg.of} a{k};")
            firsts.append(f"    bind_{arg.of}(&a{k}, {at}, form[{k}]);")
            binds.append(f"        if (k > 0 && stride[{k}]) bind_{arg.of}(&a{k}, {at}, form[{k}]);")
            given.append(f"&a{k}")
        else:
            given.append(at if arg.kind == "row" else f"(at[{k}] ? *({at}) : number[{numbers}])")
        numbers += arg.kind == "f"
    return "\n".join([
        f"SHOWN void for_all_{scope.function.name}(int64_t n, double *const *at, const int64_t *stride,",
        "    const int64_t *const *form, const double *number, const int64_t *const *index)",
        "{", *records, "    int64_t k = 0;", "    if (n <= 0) return;", *firsts,
        "    for (; k < n; k++) {", *binds, f"        {scope.function.name}({', '.join(given)});", "    }", "}", "",
    ])  # fmt: skip


def _member(name: str, one: Field) -> str:
    return f"double *{own_name(name)};" if one.kind in IN_C else f"{one.kind} {own_name(name)};"


class Printer(Scope):
    """One kernel with its statements."""

    @property
    def is_shown(self) -> bool:
        return not self.returns and any(a.kind in ("record", "row") for a in self.args.values())

    # --- the whole ---

    def result_type(self) -> str:
        if len(self.returns) < 2:
            return ""
        return f"typedef struct {{ {' '.join(f'{self.words[k]} v{i};' for i, k in enumerate(self.returns))} }} {self.function.name}_result;\n"

    def head(self) -> str:
        given = []
        for arg in self.args.values():
            given.append(self.spelled(arg) + arg.text)
        gives = f"{self.function.name}_result" if len(self.returns) > 1 else self.words.get(self.returns, "void")
        return f"static {gives} {self.function.name}({', '.join(given)})"

    def printed(self) -> str:
        body = list(self._block(self.function.node.body, 1))
        own = [t for n, t in self.names.items() if n not in self.args]
        declared = [f"    {self.spelled(t)}{t.text} = 0;" for t in own]
        return "\n".join([self.head(), "{", *declared, *body, "}", ""])

    def spelled(self, one: Typed) -> str:
        """Return the C type of a name, up to the name itself."""
        if one.kind == "record":
            return f"{one.of} *"
        return "double *" if one.kind == "row" else f"{self.words[one.kind]} "

    # --- statements ---

    def _block(self, nodes: list[ast.stmt], deep: int) -> Iterator[str]:
        for node in nodes:
            for line in self._statement(node, deep):
                yield line if line.startswith(" ") else "    " * deep + line

    def _statement(self, node: ast.stmt, deep: int) -> Iterator[str]:  # noqa: C901 - a case for each statement
        match node:
            case ast.Expr(value=ast.Constant(value=str())) | ast.Pass():
                return
            case ast.Expr(value=ast.Call() as call):
                yield f"{self._call(call).text};"
            case ast.Assign(targets=[target], value=value):
                yield from self._assigned(target, value)
            case ast.AugAssign(target=target, op=op, value=value):
                whole = ast.copy_location(ast.BinOp(_read(target), op, value), node)
                yield from self._assigned(target, whole)
            case ast.If(test=test, body=body, orelse=other):
                yield f"if ({self._flag(test)}) {{"
                yield from self._block(body, deep + 1)
                if other:
                    yield "} else {"
                    yield from self._block(other, deep + 1)
                yield "}"
            case ast.For(target=ast.Name() as target, iter=ast.Call(func=ast.Name(id="range"), args=bounds), orelse=[]):
                values = [self._of_kind(b, "i") for b in bounds]
                first, last = ("0", values[0]) if len(values) == 1 else (values[0], values[1])
                step = values[2] if len(values) > 2 else "1"
                name = self._declare(target, "i").text
                # as in Python, setting the loop's name inside the loop changes nothing
                count, least = f"c{target.lineno}", ">" if step.startswith(("-", "(-")) else "<"
                spelled = self.words["i"]
                yield f"for ({spelled} {count} = {first}, e{count} = {last}; {count} {least} e{count}; {count} += {step}) {{ {name} = {count};"
                yield from self._block(node.body, deep + 1)
                yield "}"
            case ast.While(test=test, body=body, orelse=[]):
                yield f"while ({self._flag(test)}) {{"
                yield from self._block(body, deep + 1)
                yield "}"
            case ast.Break():
                yield "break;"
            case ast.Continue():
                yield "continue;"
            case ast.Return(value=value):
                yield self._returned(node, value)
            case _:
                raise self.fail(node, f"a kernel cannot say {type(node).__name__.lower()} here")

    def _returned(self, node: ast.stmt, value: ast.expr | None) -> str:
        if not self.returns:
            if value is not None:
                raise self.fail(node, "this kernel returns nothing")
            return "return;"
        values = value.elts if isinstance(value, ast.Tuple) else [value] if value is not None else []
        if len(values) == 1 and len(self.returns) > 1 and isinstance(values[0], ast.Call):
            called = self._call(values[0])
            if called.of == self.returns:
                own = self.function.name + "_result"
                fields = ", ".join(f"t.v{k}" for k in range(len(self.returns)))
                return f"{{ {called.shape[0]} t = {called.text}; return ({own}){{{fields}}}; }}"
        if len(values) != len(self.returns):
            raise self.fail(node, f"this kernel returns {len(self.returns)} values")
        texts = [self._of_kind(v, k) for v, k in zip(values, self.returns, strict=True)]
        return (
            f"return ({self.function.name}_result){{{', '.join(texts)}}};" if len(texts) > 1 else f"return {texts[0]};"
        )

    def _assigned(self, target: ast.expr, value: ast.expr) -> Iterator[str]:
        if isinstance(target, ast.Tuple):
            yield from self._unpacked(target, value)
            return
        typed = self._typed(value)
        yield self._stored(target, typed, value)

    def _unpacked(self, target: ast.Tuple, value: ast.expr) -> Iterator[str]:
        if isinstance(value, ast.Call):
            called = self._call(value)
            if called.kind != "tuple" or len(called.of) != len(target.elts):
                raise self.fail(target, f"{len(target.elts)} names stand for what is {KIND_WORDS[called.kind]}")
            stored = [self._stored(t, Typed(f"t.v{k}", called.of[k]), value) for k, t in enumerate(target.elts)]
            yield f"{{ {called.shape[0]} t = {called.text}; {' '.join(stored)} }}"
            return
        if not isinstance(value, ast.Tuple) or len(value.elts) != len(target.elts):
            raise self.fail(target, "as many values as names must stand on the right")
        typed = [self._typed(v) for v in value.elts]
        if any(t.kind not in (*IN_C, "row", "record") for t in typed):
            raise self.fail(target, "only numbers, rows and records are assigned together")
        # read all before changing any
        taken = " ".join(f"{self.spelled(t)}t{k} = {t.text};" for k, t in enumerate(typed))
        stored = [
            self._stored(t, one._replace(text=f"t{k}"), value)
            for k, (t, one) in enumerate(zip(target.elts, typed, strict=True))
        ]
        yield f"{{ {taken} {' '.join(stored)} }}"

    def _stored(self, target: ast.expr, value: Typed, node: ast.AST) -> str:
        if isinstance(target, ast.Name):
            if value.kind not in (*IN_C, "row", "record"):
                raise self.fail(node, f"{target.id} cannot be {KIND_WORDS[value.kind]}")
            return f"{self._declare(target, value.kind, value).text} = {value.text};"
        place = self._place(target)
        if value.kind != place.kind:
            raise self.fail(node, f"{ast.unparse(target)} is {KIND_WORDS[place.kind]}, not {KIND_WORDS[value.kind]}")
        return f"{place.text} = {value.text};" if place.kind == "f" else f"{place.text} = (double)({value.text});"


def _read(target: ast.expr) -> ast.expr:
    """Return the target of an assignment as an expression that is read."""
    match target:
        case ast.Name(id=name):
            return ast.copy_location(ast.Name(name, ast.Load()), target)
    return target
