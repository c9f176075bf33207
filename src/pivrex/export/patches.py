"""What every control does: a sheet to hang next to the pit table."""

from __future__ import annotations

from pathlib import Path

from pivrex.export.paper import write_rows
from pivrex.rig import Rig
from pivrex.rig.channels import CHANNELS, describe_channel
from pivrex.rig.patches import patches_of

__all__ = ["patch_rows", "write_patches"]

HEADER = ("source", "channel", "where", "does", "how")


def patch_rows(rig: Rig) -> list[tuple[str, ...]]:
    """Return a row for each patch: source, channel, where that is, what it does and how."""
    rows: list[tuple[str, ...]] = []
    for p in patches_of(rig):
        source = "the one that drives" if p.source == "chosen" else p.source
        where = describe_channel(p.channel) if p.channel in CHANNELS else ""
        how = []
        if p.binding is not None:
            how = (
                [p.binding.when] if p.binding.when else ["held" if p.action is not None and p.action.lasts else "press"]
            )
            how += [f"with {p.binding.with_}"] if p.binding.with_ else []
        elif p.lasts_s:
            how = [f"for {p.lasts_s * 1e3:g} ms"]
        law = f" (law {rig.law.kind})" if p.key.startswith("law.") else ""
        rows.append((source, p.channel, where, p.function + law, ", ".join(how)))
    return rows


def write_patches(rig: Rig, path: Path) -> None:
    """Write them as .csv, .svg or .pdf; raises `SaveError`."""
    write_rows(f"{rig.name}: what every control does", HEADER, patch_rows(rig), path)
