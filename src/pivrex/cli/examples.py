"""One or two examples of each command, for its help and the manual."""

from __future__ import annotations

__all__ = ["EXAMPLES", "shown"]

EXAMPLES: dict[str, tuple[tuple[str, str], ...]] = {
    "demo": (
        ("pivrex demo", "a fresh copy of the demo"),
        ("pivrex demo ~/greenhouse --rig coot --view driver", "kept there"),
    ),
    "open": (
        ("pivrex", "this folder, or what was open last"),
        ("pivrex ~/team --link", "the robot behind the rig's link"),
        ("pivrex rigs/coot.toml --theme noon", "one rig, in a bright hall"),
    ),
    "new": (("pivrex new ~/team", "a workspace of one's own"), ("pivrex new", "in this folder")),
    "check": (("pivrex check rigs/*.toml routines/*.txt", "every mistake, one a line"),),
    "describe": (("pivrex describe plover --json", "its wheels"),),
    "wire": (("pivrex wire coot", "the values on its wire"),),
    "board": (
        ("pivrex board plover -o plover-board", "the program of its board, whole"),
        ("pivrex board plover inputs/watering.csv --prove", "the line as it is printed, here and in an emulated chip"),
    ),
    "key": (("pivrex key plover", "from then on only what is sealed with it counts"),),
    "wheels": (
        ("pivrex wheels plover --forward 0.5 --turn 90", "what each wheel must do"),
        ("pivrex wheels avocet --left 0.4 --steer 80,0,-100,170", "which way steered wheels go"),
    ),
    "map": (("pivrex map plover inputs/watering.csv -o ticks.csv", "a row of every stage's values for each reading"),),
    "shakedown": (
        ("pivrex shakedown bittern --fault random --seed 3", "faults for the simulated robot, found and corrected"),
    ),
    "play": (("pivrex play greenhouse-plover --json", "where it ends, when each step began"),),
    "rehearse": (
        ("pivrex rehearse greenhouse-plover --times 500", "how often it gets there, and what the misses follow"),
    ),
    "solve": (
        ('pivrex solve practice --line 5 --for "driven 1 m"', "a number of a routine, found on the simulated robot"),
    ),
    "back": (("pivrex back practice -o routines/home.txt", "the routine that goes back"),),
    "heading": (("pivrex heading plover --turn 90", "how well the gyro turns it"),),
    "tune": (("pivrex tune plover --loop heading --goal calm", "gains, with what to expect of them"),),
    "gyro": (("pivrex gyro plover", "drift and noise, mounted firm, loose, by a motor"),),
    "sums": (
        ("pivrex sums", "which there are"),
        ("pivrex sums divider sensor=5V pin=3.3V", "two resistors that can be bought"),
        ("pivrex sums gear gear=20 --rig coot", "top speed and push"),
    ),
    "glossary": (("pivrex glossary overshoot", "what a word of the screen means"),),
    "runs": (
        ("pivrex runs", "what was kept, the newest first"),
        ("pivrex runs --season plover", "the figures of all its runs over time"),
    ),
    "replay": (("pivrex replay last --at 3.2", "what happened, and the why of a tick"),),
    "compare": (
        ("pivrex compare last-1 last", "the first difference, and its stage"),
        ("pivrex compare last --through rigs/plover-new.toml", "what a change would have done to that drive"),
    ),
    "learn": (
        ("pivrex learn plover --drive > routines/learning.txt", "the drive that tells most"),
        ('pivrex learn plover last --turned "3 turns" --write', "write what it tells into the rig"),
    ),
    "report": (("pivrex report last -o drive.pdf", "two pages for the notebook"),),
    "remote": (
        ('pivrex remote coot "green radio" --script drive.txt', "simulates any of a rig's remotes"),
        ("pivrex remote --pad", "a gamepad for a Pivrex that runs with --pad"),
    ),
    "simulator": (
        ("pivrex simulator coot --log robot.csv", "a robot at the other end of the link"),
        ("pivrex simulator plover --board --serial robot", "its board's own program, in an emulated chip"),
    ),
    "export": (
        ("pivrex export chassis bittern -o chassis.svg -o chassis.pdf", "also curve, envelope, plan, wiring ..."),
    ),
    "path": (("pivrex path time round --rig avocet", "how long it takes, and what holds it where"),),
    "completion": (
        ("pivrex completion bash >> ~/.bashrc", "words completed by Tab"),
        ("pivrex completion fish > ~/.config/fish/completions/pivrex.fish", ""),
    ),
    "here": (("pivrex here", "what works on this machine and in this terminal"),),
    "manual": (("pivrex manual > pivrex.1 && man ./pivrex.1", "the page of the manual"),),
}


def shown(command: str) -> str:
    """Write the examples of a command, a line each; empty if it has none."""
    rows = EXAMPLES.get(command, ())
    wide = max((len(words) for words, _ in rows), default=0)
    return "\n".join(["examples:", *(f"  {words:<{wide}}  {what}".rstrip() for words, what in rows)]) if rows else ""
