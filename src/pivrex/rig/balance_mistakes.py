"""Mistakes of a robot that balances, between the tables of its rig."""

from __future__ import annotations

from pivrex.rig.tables import RigTables

__all__ = ["balance_mistakes"]


def balance_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    """Return what keeps a robot from balancing, whatever its gains."""
    balance = rig.balance
    if balance is None:
        return []
    found = _balancing_body(rig, balance.falls_at_rad)
    times = rig.rate_hz / balance.asking_rate_hz
    if times < 1 or abs(times - round(times)) > 1e-9:
        what = f"is {balance.asking_rate_hz:g} Hz, but the rate of {rig.rate_hz:g} Hz is no whole multiple of it"
        found.append(("balance.asking_rate", what))
    if rig.tilt is None:
        found.append(("balance", "needs to know the lean, but the rig has no tilt sensor; add a table [tilt]"))
    blind = [name for name, motor in rig.motors.items() if not motor.counts_per_turn]
    if blind:
        found.append(("balance", f"needs encoders, but {', '.join(blind)} has none (counts_per_turn is 0)"))
    if balance.speed.output_limit_rad >= balance.falls_at_rad:
        found.append(("balance.speed.output_limit", "asks for a lean at which the robot has fallen (balance.falls_at)"))
    if rig.control is not None and rig.control.wheels != "open":
        what = f'is "{rig.control.wheels}", but [balance] makes the drive of each wheel; leave [control] out'
        found.append(("control.wheels", what))
    found += [
        (f"bindings.{k}.does", f'is "{b.does}", but without drive a robot that balances falls; a stop makes it stand')
        for k, b in enumerate(rig.bindings)
        if b.does.strip() in ("brake", "coast")
    ]
    if rig.link is not None and rig.board.mode != "alone":
        what = (
            'is "obeys", but drive that comes over a link is 20 to 50 ms late, and by then the robot falls; say "alone"'
        )
        found.append(("board.mode", what))
    return found


def _balancing_body(rig: RigTables, falls_at: float) -> list[tuple[str, str]]:
    """Return what keeps a body from balancing: another axle, no mass, a weight below the axle, a frame that touches the floor first."""
    chassis, body, found = rig.chassis, rig.body, []
    if chassis.casters or chassis.shape != "two-sided" or len({w.x_m for w in chassis.wheels}) > 1:
        what = "must be plain wheels on one axle and nothing else: a robot that balances stands on two sides only"
        found.append(("chassis.casters" if chassis.casters else "chassis.wheels", what))
    if rig.upside_down is not None:
        found.append(("upside_down", "is given, but a robot that balances has one side that is up; leave it out"))
    if body is None or body.kind != "realistic":
        key, what = ("body.kind", 'is "ideal"') if body is not None else ("body", "is missing")
        found.append((key, f'{what}; a robot that balances has a mass that falls: say kind = "realistic"'))
        return found
    high, axle = body.high_m(chassis), max(w.radius_m for w in chassis.wheels)
    if high <= axle:
        what = f"is {high * 1000:.0f} mm, but the axle is at {axle * 1000:.0f} mm: a weight below its axle keeps it upright by itself"
        found.append(("body.height", f"{what}; leave out [balance], or raise the weight"))
    if falls_at >= min(body.lies_rad(True)):
        what = "is not less than the lean at which the robot lies (body.lies_forward, lies_back)"
        found.append(("balance.falls_at", what))
    return found
