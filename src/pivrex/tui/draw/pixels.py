"""Prints a scene in pixels, smooth, and writes pictures as terminals take them: by the kitty graphics protocol, or as sixels.

Sources: the published description of the kitty graphics protocol; DEC, VT330/VT340 Programmer Reference Manual, chapter 14 (sixels).
"""

from __future__ import annotations

import base64
import io
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from pivrex.scene.marks import ROLES, Area, Rim, shapes
from pivrex.scene.scene import Scene
from pivrex.tui.draw.fit import HIGH, WIDE

if TYPE_CHECKING:  # the library is loaded when there is something to draw: the screen starts without it too
    from PIL import Image

__all__ = ["kitty_gone", "kitty_shown", "pixel_image", "sixels"]

FINER = 3
"""Each pixel is drawn by so many points across and down, and their mean taken."""

THINNER = 0.7
"""Lines are thinner than on cells by this."""

CHUNK = 4096
"""How many letters a piece of a picture has at most, by the kitty graphics protocol."""

COLOURS = 16
"""Every terminal with sixels has so many colours at once."""
FAR = 50_000.0
Colour = tuple[int, int, int]


def pixel_image(
    scene: Scene, columns: int, rows: int, cell: tuple[int, int], colour: Callable[[int], Colour]
) -> Image.Image:
    """Draw a scene's box.

    Parameters
    ----------
    scene : Scene
    columns, rows : int
        The cells that the scene has, margins included.
    cell : (int, int)
        How many pixels a cell is wide and high.
    colour : callable
        Gives the colour of a role by its number, 0 for what lies behind all.

    Returns
    -------
    Image
        RGB, as many pixels as the cells of the box have. Texts are not drawn: they stay the terminal's.
    """
    from PIL import Image, ImageDraw

    placing = scene.placing(columns, rows, WIDE, HIGH)  # as on cells, however high these are
    size = np.array(cell) * FINER
    scale = size / (WIDE, HIGH)
    colours = {name: colour(number) for number, name in enumerate(ROLES)}
    image = Image.new("RGB", tuple((size * (placing.columns, placing.rows)).tolist()), colours[""])
    draw = ImageDraw.Draw(image)
    for shape in shapes(scene.all_marks(), placing):
        if isinstance(shape, Area):
            draw.polygon((shape.corners * scale).clip(-FAR, FAR).ravel().tolist(), fill=colours[shape.role])
        elif isinstance(shape, Rim):
            width = max(1, round(shape.width * float(scale[0]) * THINNER))
            points = (shape.points * scale).clip(-FAR, FAR).ravel().tolist()
            draw.line(points, fill=colours[shape.role], width=width, joint="curve")
    return image.reduce(FINER)


def kitty_shown(image: Image.Image, number: int, columns: int, rows: int) -> str:
    """Return what shows an image at the cursor, ``columns`` x ``rows`` cells large, over the text; what is transparent lets that through."""
    buffer = io.BytesIO()
    image.save(buffer, "PNG")
    data = base64.standard_b64encode(buffer.getvalue()).decode("ascii")
    pieces = [data[k : k + CHUNK] for k in range(0, len(data), CHUNK)]
    first = f"a=T,f=100,i={number},p=1,c={columns},r={rows},C=1,q=2,"
    return "".join(
        f"\x1b_G{first if k == 0 else ''}m={int(k < len(pieces) - 1)};{piece}\x1b\\" for k, piece in enumerate(pieces)
    )


def kitty_gone(number: int) -> str:
    """Return what takes an image away."""
    return f"\x1b_Ga=d,d=I,i={number},q=2\x1b\\"


def sixels(image: Image.Image) -> str:
    """Return what draws an image at the cursor as sixels: bands of six rows, colour by colour, repetitions counted.

    What is transparent is not drawn.
    """
    from PIL import Image

    limited = image.convert("RGB").quantize(COLOURS, dither=Image.Dither.NONE)
    palette = np.array(limited.getpalette(), int).reshape(-1, 3)
    pixels = np.asarray(limited).astype(int)
    if image.mode == "RGBA":
        pixels[np.asarray(image.getchannel("A")) == 0] = -1
    out = [f'\x1bP0;1q"1;1;{image.width};{image.height}']
    out += [
        f"#{k};2;{r * 100 // 255};{g * 100 // 255};{b * 100 // 255}" for k, (r, g, b) in enumerate(palette.tolist())
    ]
    for top in range(0, image.height, 6):
        band = pixels[top : top + 6]
        bits = (1 << np.arange(len(band)))[:, None]
        lines = [f"#{k}{_counted(((band == k) * bits).sum(axis=0))}" for k in np.unique(band[band >= 0]).tolist()]
        out.append("$".join(lines) + "-")
    return "".join(out) + "\x1b\\"


def _counted(columns: NDArray[np.int_]) -> str:
    """Write a row of sixels, each six points high; what repeats is counted."""
    cuts = np.flatnonzero(np.diff(columns)) + 1
    starts = np.concatenate(([0], cuts))
    counts = np.diff(np.concatenate((starts, [len(columns)])))
    signs = [chr(63 + value) for value in columns[starts].tolist()]
    parts = [sign * n if n < 4 else f"!{n}{sign}" for sign, n in zip(signs, counts.tolist(), strict=True)]
    return "".join(parts[:-1] if signs[-1] == "?" else parts)  # an empty end needs no sign
