"""Every form of a line of a routine: help, completion and the language page are made from these rows."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["FORMS", "FUNCTIONS", "KEYWORDS", "LATER_WORDS", "READINGS", "Form", "example_of"]


@dataclass(frozen=True)
class Form:
    """A form.

    Attributes
    ----------
    part : str
        The part of the language that it belongs to.
    form : str
        What stands in it; what may be left out in square brackets, what a person writes in CAPITALS.
    example : str
        A line that can be read.
    says : str
        What it does.
    block : bool
        Whether lines that are indented belong to it.
    """

    part: str
    form: str
    example: str
    says: str
    block: bool = False

    @property
    def first(self) -> str:
        """The word that it begins with."""
        return self.example.split()[0]


START, DRIVING, TURNING, WAITING, NEXT_TO = "The start", "Driving", "Turning", "Waiting", "Attachments and sensors"
DECIDING, AGAIN, OWN, SETTING = "Deciding", "Repeating, and several at once", "Own moves", "Names and settings"
TELLING = "Messages"

FORMS: tuple[Form, ...] = (
    Form(START, "for RIG", "for plover", "Names the rig that the routine is for; any other rig is refused."),
    Form(START, "on floor NAME", 'on floor "greenhouse"',
         "Names the floor that it drives on, from the workspace's folder floors/; the workspace's own field if left out."),
    Form(START, "start at X, Y [facing ANGLE]", "start at 0.50 m, 0.50 m facing 90 deg",
         "Sets where the robot starts: the simulated robot stands there; for a real one the estimated pose is set."),
    Form(START, "use moves from FILE", 'use moves from "greenhouse-moves"', "Uses the own moves of another file in the same folder."),
    Form(DRIVING, "drive ahead|back|left|right AMOUNT [OPTIONS]", "drive ahead 0.8 m at 40 %",
         "Drives straight; left and right only if the wheels can. AMOUNT is a length, a time, encoder counts or wheel turns."),
    Form(DRIVING, "drive along ANGLE for AMOUNT [OPTIONS]", "drive along 45 deg for 60 cm",
         "Drives in a direction of the field, whichever way the robot faces; only if the wheels can."),
    Form(DRIVING, "drive to X, Y [facing ANGLE] [OPTIONS]", "drive to 1.70 m, 0.75 m facing 0 deg",
         "Drives to a place on the field in a straight line; turns toward it first, unless the wheels can drive in any direction."),
    Form(DRIVING, "follow PATH [from here] [OPTIONS]", "follow round",
         "Follows a path from the workspace's folder paths/, at its own place or, with from here, from the robot's pose."),
    Form(DRIVING, "follow X, Y [then X, Y ...] [OPTIONS]", "follow 1.20 m, 0.75 m then 2.00 m, 1.10 m",
         "Follows a smooth path from the robot's place through these places."),
    Form(DRIVING, "bend [back] left|right ANGLE with radius LENGTH [OPTIONS]", "bend left 90 deg with radius 0.4 m",
         "Drives an arc; ANGLE is how far the robot turns."),
    Form(DRIVING, "wheels WHICH SHARE, WHICH SHARE [for AMOUNT] [OPTIONS]", "wheels left -60 %, right 60 % for 15 cm",

         "Sets wheels to shares of their top speed, by side or by name in quotes, without correction. AMOUNT is a time, or how "
         "far each of these wheels rolls by its own encoder: a length, encoder counts or wheel turns."),
    Form(TURNING, "turn left|right AMOUNT [OPTIONS]", "turn left 90 deg",
         "Turns on the spot by an angle, or for a time; with a length, such as turn left 15 cm, until each side has rolled this far by its "
         "own encoder."),
    Form(TURNING, "turn to ANGLE [OPTIONS]", "turn to 180 deg", "Turns the shorter way until the robot faces this direction of the field."),
    Form(TURNING, "turn toward X, Y [OPTIONS]", "turn toward 2.65 m, 1.98 m", "Turns until the robot faces a place."),
    Form(TURNING, "pivot [back] left|right ANGLE about [the] left|right side [OPTIONS]", "pivot left 90 deg about the left side",
         "Turns about the wheels of one side, which stand still."),
    Form(WAITING, "wait TIME", "wait 1.5 s", "Waits for a time; the gyro keeps the heading."),
    Form(WAITING, "wait until CONDITION [at most TIME [, else ACTION]]", "wait until post is heard at most 2 s, else stop",
         "Waits until a condition is true."),
    Form(WAITING, "wait for ATTACHMENT [at most TIME [, else ACTION]]", "wait for boom at most 2 s",
         "Waits until an attachment has reached its target."),
    Form(WAITING, "settle [at most TIME]", "settle at most 0.5 s", "Waits until the robot is at rest and faces its target heading."),
    Form(NEXT_TO, "move ATTACHMENT to|by ANGLE [over TIME] [and wait] [at most TIME [, else ACTION]]", "move boom to 60 deg and wait",

         "Moves it to an angle (a lift to a height, such as 300 mm), or by an amount from its last target. The next step begins "
         "at once, unless you write and wait."),
    Form(NEXT_TO, "switch NAME on|off", "switch pump on", "Switches something on or off; a sensor that is off senses nothing."),
    Form(NEXT_TO, "run MOTOR at SHARE [for TIME]", "run roller at 40 % for 2 s",
         "Runs an attachment's motor for a time, or until it gets another share."),
    Form(NEXT_TO, "zero gyro|counts|ATTACHMENT", "zero gyro",
         "Measures the gyro's bias while the robot stands still, sets counted distances to 0, or sets an attachment's position to 0."),
    Form(NEXT_TO, "home ATTACHMENT at SHARE [as ANGLE] [at most TIME [, else ACTION]]", "home boom at -30 % as 0 deg at most 2 s",
         "Drives an attachment gently against its stop, and sets its position there: an angle, or the height of a lift."),
    Form(DECIDING, "if CONDITION", "if front below 30 cm", "Runs its block if the condition is true.", True),
    Form(DECIDING, "else if CONDITION", "else if post is 2", "Runs its block if no block before it ran and the condition is true.", True),
    Form(DECIDING, "else", "else", "Runs its block if no block before it ran.", True),
    Form(DECIDING, "choose by VALUE", "choose by dryness", "Runs the block of the when with this value.", True),
    Form(DECIDING, "when VALUE", "when 3", "Names one value of a choice.", True),
    Form(DECIDING, "otherwise", "otherwise", "Runs its block for any other value, and if there is no value.", True),
    Form(AGAIN, "repeat NUMBER times", "repeat 3 times", "Runs its block this many times.", True),
    Form(AGAIN, "repeat until CONDITION [at most NUMBER times]", "repeat until front below 30 cm at most 5 times",
         "Runs its block again and again; before each time it ends if the condition is true.", True),
    Form(AGAIN, "at once until all end", "at once until all end",
         "Starts all lines of its block together, and ends when all have ended.", True),
    Form(AGAIN, "at once until one ends", "at once until one ends",
         "Starts all lines of its block together; the first one that ends also ends the others.", True),
    Form(AGAIN, "at once ending together", "at once ending together",
         "Starts all lines of its block together, and slows the faster ones so that all end at the same moment.", True),
    Form(OWN, "own move NAME [with NAME DEFAULT, ...]", "own move pour with seconds 2 s, tilt 70 deg",
         "Gives its block a name; each parameter has a default, which also gives its unit.", True),
    Form(OWN, "do MOVE [with NAME VALUE, ...]", "do pour with seconds 3 s", "Runs an own move."),
    Form(OWN, "give VALUE", "give front else 1 m", "Ends an own move and returns a result."),
    Form(OWN, "let NAME be result of MOVE [with NAME VALUE, ...]", "let gap be result of measure",
         "Runs an own move and keeps its result under a name."),
    Form(SETTING, "let NAME be VALUE [else VALUE]", "let dryness be post else 1",
         "Keeps a value under a name; the value after else counts if nothing was sensed."),
    Form(SETTING, "here is X, Y [facing ANGLE]", "here is 1.70 m, 0.75 m facing 0 deg", "Sets the estimated pose for the next steps."),
    Form(SETTING, "from now on drive at SPEED", "from now on drive at 0.4 m/s", "Sets the speed of later drives that name none."),
    Form(SETTING, "from now on turn at RATE", "from now on turn at 90 deg/s", "Sets the speed of later turns that name none."),
    Form(SETTING, "from now on with|without gyro", "from now on without gyro", "Sets whether the gyro keeps the heading."),
    Form(SETTING, "mark by wall ahead|behind|left|right", "mark by wall ahead",
         "Corrects the heading and one of x and y: that side of the robot touches a wall squarely."),
    Form(SETTING, "mark by RANGER", "mark by front", "Corrects the estimated pose by the distance that this ranger measures to a wall."),
    Form(SETTING, "stop", "stop", "Ends the routine: everything is off."),
    Form(TELLING, 'say "TEXT"', 'say "looking for the post"', "Shows a sentence: among the messages, in play, and in the kept run."),
    Form(TELLING, "show VALUE", "show front - 30 cm",
         "Shows the present value and its time: next to the line, as a curve over time, among the messages, and in the kept run."),
)  # fmt: skip

READINGS = {
    "heading": "the robot's heading on the field, in deg from -180 to 180",
    "x": "its estimated place along the field's length",
    "y": "its estimated place along the field's width",
    "time": "the time since the routine began",
    "battery": "the battery's voltage, if the rig senses it",
}
"""What every routine may ask for in addition to the rig's own sensors and attachments."""

FUNCTIONS = {"least": "the smallest of its values", "most": "the largest of its values", "size": "the value without its sign",
             "root": "the square root"}  # fmt: skip

KEYWORDS = frozenset(
    [
        "for",
        "floor",
        "start",
        "at",
        "use",
        "moves",
        "from",
        "own",
        "move",
        "with",
        "drive",
        "along",
        "to",
        "turn",
        "toward",
        "pivot",
        "about",
        "the",
        "side",
        "bend",
        "radius",
        "wheels",
        "wait",
        "until",
        "settle",
        "switch",
        "run",
        "zero",
        "home",
        "as",
        "here",
        "follow",
        "then",
        "mark",
        "wall",
        "is",
        "now",
        "on",
        "let",
        "be",
        "result",
        "of",
        "do",
        "give",
        "stop",
        "if",
        "else",
        "choose",
        "by",
        "when",
        "otherwise",
        "repeat",
        "times",
        "once",
        "all",
        "end",
        "one",
        "ends",
        "ending",
        "together",
        "go",
        "most",
        "facing",
        "over",
        "ahead",
        "back",
        "left",
        "right",
        "off",
        "and",
        "or",
        "not",
        "gyro",
        "without",
        "heard",
        "silent",
        "there",
        "below",
        "above",
        "skip",
    ]
)
"""Words of the language, which can be no names."""

LATER_WORDS = frozenset(["say", "show"])
"""Words of the language that came later: where a name stands, they are names."""


def example_of(text: str) -> str:
    """Return the example of the form that a line comes nearest to; empty if it begins like none."""
    words = text.split()
    best, most = "", 0
    for form in FORMS:
        theirs = form.example.split()
        alike = next(
            (i for i, (a, b) in enumerate(zip(words, theirs, strict=False)) if a != b), min(len(words), len(theirs))
        )
        if alike > most:
            best, most = form.example, alike
    return best
