"""A line as C99: two readable files, with one typedef that selects float or double."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import groupby
from math import prod
from textwrap import wrap
from typing import Any

import numpy as np

from pivrex.board.c_maths import FUNCTIONS, HEAD, NEEDS, OF_LIBRARY, RINT
from pivrex.board.flat_program import FlatFunction, FlatProgram, Global
from pivrex.board.printing import WORDS, BoardPrinter, c_name, number_in_c
from pivrex.kernels.expressions import own_name
from pivrex.kernels.sources import read

__all__ = ["GOES_ON", "line_header", "line_source", "single_functions", "structures"]

GOES_ON = ("tilt", "balance")
"""Stages that do not begin again as a routine begins: a robot that balances stands on them."""

ABOUT = {
    "row": "What a tick says, stage by stage: what goes in, then what each stage makes of it.",
    "kept": "What stages remember from one tick to the next.",
    "was": "What the stage that computes just now remembered in the tick before. One at a time: they share a place.",
    "place": "Where stages compute. One at a time: they share a place.",
}


def structures(program: FlatProgram, root: str) -> dict[str, list[Global]]:
    """Return the globals of one of the roots, by stage, in the order of their places."""
    own = [g for g in program.globals.values() if g.root == root]
    if root in ("kept", "was"):  # memory and the memory of the tick before are the same
        both = {g.name.partition(".")[2]: g for g in program.globals.values() if g.root in ("kept", "was")}
        own = [Global(f"{root}.{n}", g.kind, g.shape, g.unit, None, g.at) for n, g in both.items()]
        alive = {g.name.split(".")[1] for g in program.globals.values() if g.root == "was"} if root == "was" else None
        own = [g for g in own if alive is None or g.name.split(".")[1] in alive]
    found: dict[str, list[Global]] = {}
    for one in sorted(own, key=lambda g: g.at):
        found.setdefault(one.name.split(".")[1], []).append(one)
    return found


def _members(globals_: list[Global], deep: int, indent: str) -> list[str]:
    """Return the members of a struct, those of parts as structs in it."""
    lines = []
    for part, each in groupby(globals_, lambda g: g.name.split(".")[deep]):
        own = list(each)
        if len(own[0].name.split(".")) > deep + 1:
            lines += [f"{indent}struct {{", *_members(own, deep + 1, indent + "    "), f"{indent}}} {own_name(part)};"]
            continue
        one = own[0]
        size = f"[{max(1, prod(one.shape))}]" if one.shape else ""
        unit = f" /* {one.unit} */" if one.unit else ""
        lines.append(f"{indent}{WORDS[one.kind]} {own_name(part)}{size};{unit}")
    return lines


def line_header(program: FlatProgram, real: str) -> str:
    """Return `line.h`: the number types, the inputs and the outputs."""
    suffix = (
        "#define SINGLE\n#define R(x) x##f\n#define F(function) function##f\n"
        "#define DUST(x) (R(x) * 1000) /* less is rounding */\n#define SMALL(x) FLT_MIN\n#define LARGE(x) FLT_MAX"
        if real == "float"
        else "#define R(x) x\n#define F(function) function\n#define DUST(x) x\n#define SMALL(x) x\n#define LARGE(x) x"
    )
    lines = [
        "#ifndef LINE_H",
        "#define LINE_H",
        "#include <float.h>",
        "#include <math.h>",
        "#include <stdint.h>",
        "#include <string.h>",
        "",
        HEAD.format(real=real, suffix=suffix),
    ]
    lines += _struct(structures(program, "row"), "row", "extern struct row", "row")
    lines += _kept_types(program)
    lines += [f"/* {ABOUT['kept']} */", "extern struct kept {"]
    lines += [f"    struct {own_name(s)}_state {own_name(s)};" for s in structures(program, "kept")] or [
        "    whole nothing;"
    ]
    lines += [
        "} kept;",
        "",
        "void line_begin(void); /* before the first tick */",
        "void line_begin_again(void); /* as a routine begins; one that balances goes on standing */",
        "void line_tick(void);",
        "#endif",
        "",
    ]
    return "\n".join(lines)


def _kept_types(program: FlatProgram) -> list[str]:
    lines = []
    for stage, own in structures(program, "kept").items():
        lines += [f"struct {own_name(stage)}_state {{", *_members(own, 2, "    "), "};"]
    return lines


def _struct(stages: dict[str, list[Global]], root: str, head: str, name: str) -> list[str]:
    lines = [f"/* {ABOUT[root]} */", f"{head} {{"]
    for stage, own in stages.items():
        lines += ["    struct {", *_members(own, 2, "        "), f"    }} {own_name(stage)};"]
    return [*lines, f"}} {name};", ""]


def line_source(program: FlatProgram, start: np.ndarray[Any, Any], traced: bool = False) -> str:
    """Return `line.c`. ``start``: what is remembered before the first tick, as the line's memory has it. ``traced`` notes which way
    each comparison went, by a macro SEEN.
    """
    scopes = [BoardPrinter(f, program, traced) for f in program.functions.values()]
    bodies = [scope.printed() for scope in scopes]
    whole_text = "".join(bodies)
    lines = ['#include "line.h"', *(['#include "seen.h"'] if traced else []), ""]
    used = _with_needs(n for n in FUNCTIONS if f"{n}(" in whole_text and n not in OF_LIBRARY)
    own = [n for n in OF_LIBRARY if f"{n}(" in whole_text]
    only_single = [n for n in _with_needs(own) if n not in used and n not in own]
    if "m_rint" in used:
        lines.append(RINT.replace("{{", "{").replace("}}", "}"))
    lines += [f"static {FUNCTIONS[n]}" for n in used] + [""]
    if own:
        lines += ["#ifdef SINGLE /* the same bits on every board */", *(f"static {FUNCTIONS[n]}" for n in only_single)]
        lines += [*_in_single(own), "#else", *(f"static {FUNCTIONS[n]}" for n in own), "#endif", ""]
    lines += ["/* Settings of the rig, and constants. */", *_constants(program), ""]
    lines += ["struct row row;", "struct kept kept;", ""]
    if was := structures(program, "was"):
        lines += [
            f"/* {ABOUT['was']} */",
            "static union {",
            *(f"    struct {own_name(s)}_state {own_name(s)};" for s in was),
            "} was;",
            "",
        ]
    if place := structures(program, "place"):
        lines += _struct(place, "place", "static union", "place")
    lines += [scope.result_type().rstrip("\n") for scope in scopes if scope.result_type()]
    lines += ["", *bodies]
    lines += [
        "void line_begin(void)",
        "{",
        "    memset(&row, 0, sizeof row);",
        "    memset(&kept, 0, sizeof kept);",
        *_begun(program, start),
        "}",
        "",
    ]
    lines += _begin_again(program)
    lines += ["void line_tick(void)", "{", *(f"    {f}();" for f in program.order), "}", ""]
    return "\n".join(lines)


def _begin_again(program: FlatProgram) -> list[str]:
    """Return what begins the line again without letting a robot that balances fall."""
    goes_on = [own_name(s) for s in structures(program, "kept") if s in GOES_ON]
    return [
        "void line_begin_again(void)", "{",
        *(f"    struct {s}_state {s} = kept.{s};" for s in goes_on),
        "    line_begin();",
        *(f"    kept.{s} = {s};" for s in goes_on),
        "}", "",
    ]  # fmt: skip


def _with_needs(names: Iterable[str]) -> list[str]:
    """Return functions with those that they call, in the order of `FUNCTIONS`."""
    found = set(names)
    found |= {n for name in found for n in NEEDS.get(name, ())}
    return [n for n in FUNCTIONS if n in found]


def single_functions() -> dict[str, FlatFunction]:
    """Return the functions of `pivrex.board.single`, each below those that it calls."""
    module = read(("board/single.py",))[0]
    return {
        name: FlatFunction(f"m_{name}", one, {a.arg: "f" for a in one.node.args.args}, "f", one.node.body)
        for name, one in module.functions.items()
    }


def _in_single(names: list[str]) -> list[str]:
    """Return the functions of these names in C, in single precision, with those that they call."""
    every = single_functions()
    program = FlatProgram(every, {})
    helps = {"m_sin": "m_turned_sine", "m_cos": "m_turned_sine"}
    wanted = {*names, *(helps[n] for n in names if n in helps)}
    return [BoardPrinter(f, program, False).printed() for f in every.values() if f.name in wanted]


def _constants(program: FlatProgram) -> list[str]:
    lines = []
    for one in program.globals.values():
        if one.value is None:
            continue
        unit = f" /* {one.unit} */" if one.unit else ""
        if one.shape:
            flat = [number_in_c(v, one.kind) for v in np.asarray(one.value).reshape(-1).tolist()]
            rows = wrap(", ".join(flat), 100)
            body = rows[0] if len(rows) == 1 else "\n    " + "\n    ".join(rows) + "\n"
            if flat:
                lines.append(f"static CONSTANT {WORDS[one.kind]} {one.name}[{len(flat)}] = {{{body}}};{unit}")
        else:
            value = f"DUST({one.value!r})" if one.name.startswith("DUST") else number_in_c(one.value, one.kind)
            lines.append(f"static const {WORDS[one.kind]} {one.name} = {value};{unit}")
    return lines


def _begun(program: FlatProgram, start: np.ndarray[Any, Any]) -> list[str]:
    """Return what sets what is not 0 before the first tick."""
    lines = []
    for own in structures(program, "kept").values():
        for one in own:
            size = prod(one.shape)
            values = start[one.at : one.at + size].tolist()
            name = c_name(one.name)
            if not one.shape and values[0] != 0:
                lines.append(f"    {name} = {number_in_c(values[0], one.kind)};")
            elif one.shape and size > 1 and len({repr(v) for v in values}) == 1 and values[0] != 0:
                lines.append(f"    for (whole i = 0; i < {size}; i++) {name}[i] = {number_in_c(values[0], one.kind)};")
            elif one.shape:
                lines += [f"    {name}[{k}] = {number_in_c(v, one.kind)};" for k, v in enumerate(values) if v != 0]
    return lines
