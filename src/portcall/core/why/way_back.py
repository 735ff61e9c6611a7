"""The rung of the way back: whether anything comes back, and what is in its way."""

from __future__ import annotations

from portcall.core.address import assumed_network
from portcall.core.finding import Finding, Line, Value
from portcall.core.reach.echo_facts import Undelivered
from portcall.core.why import sentences as say
from portcall.core.why.evidence import NOBODY, FromInside, Situation, Trial
from portcall.core.why.ladder import Advice, Cause, Goal, Rung, Step, broken, holds, undecided
from portcall.core.wire.dhcp import prefix_length
from portcall.core.wire.icmp import BY_A_FILTER


def judge_way_back(
    goal: Goal, here: Situation, trial: Trial, inside: FromInside | None = None
) -> Step | None:
    """Whether answers come back to this computer's sockets.

    None: nothing does, and what an address nearer to the device's tells is wanted (``inside``).
    """
    name = here.adapter.name
    if trial.came_back:
        return holds(Rung.WAY_BACK, say.COMES_BACK(adapter=name))
    if trial.refused is not None or trial.seen_out == 0:
        return _firewall_out(goal, here, trial)
    if trial.seen_in:
        return _dropped_here(goal, here, trial)
    if trial.elsewhere:
        return _came_elsewhere(goal, here, trial)
    believed = here.believed(trial.errors, goal.address)
    if believed is not None:
        return _undelivered(goal, here, believed)
    if here.way.router is None and inside is None:
        return None
    if inside is not None and inside.leaves_out(here.way.source, goal.address):
        return _mask(goal, here, inside)
    if inside is not None and inside.answered:
        return _answers_nearer(goal, here, inside)
    return _silence(goal, here, trial, inside)


def _firewall_out(goal: Goal, here: Situation, trial: Trial) -> Step:
    return broken(
        Rung.WAY_BACK,
        say.NOT_SENT(address=goal.address, refused=trial.refused, adapter=here.adapter.name),
        Cause.FIREWALL_OUT,
        say.NOT_LET_OUT(goal=goal.name),
        say.LOOK_AT_RULES(),
        say.LET_THROUGH(address=goal.address),
    )


def _dropped_here(goal: Goal, here: Situation, trial: Trial) -> Step:
    name = here.adapter.name
    strict = name in trial.strict and here.way.adapter != name
    seen = say.CAME_TO_NOBODY(
        answers=trial.seen_in, address=goal.address, adapter=name, strict=strict
    )
    if strict:
        return broken(Rung.WAY_BACK, seen, Cause.RETURN_FILTERED, *_return_filtered(goal, name))
    return broken(
        Rung.WAY_BACK,
        seen,
        Cause.FIREWALL_IN,
        say.DROPPED_HERE(goal=goal.name),
        say.LOOK_AT_RULES(),
        say.LET_THROUGH(address=goal.address),
    )


def _came_elsewhere(goal: Goal, here: Situation, trial: Trial) -> Step:
    name, count = max(trial.elsewhere.items(), key=lambda pair: pair[1])
    seen = say.CAME_ELSEWHERE(
        answers=count,
        address=goal.address,
        by=name,
        adapter=here.adapter.name,
        strict=name in trial.strict,
    )
    if name in trial.strict:
        return broken(Rung.WAY_BACK, seen, Cause.RETURN_FILTERED, *_return_filtered(goal, name))
    return undecided(
        Rung.WAY_BACK,
        seen,
        say.BY_ANOTHER(goal=goal.name, adapter=here.adapter.name),
        (Cause.RETURN_FILTERED, Cause.ROUTE_ELSEWHERE),
        say.PULL_CABLE(by=name),
    )


def _return_filtered(goal: Goal, name: str) -> tuple[Finding, Finding, Finding]:
    return (
        say.FILTERED_HERE(goal=goal.name, by=name),
        say.LOOSEN_FILTER(by=name),
        say.OR_BY_ROUTER(),
    )


def _undelivered(goal: Goal, here: Situation, error: Undelivered) -> Step:
    who, said = error.by, error.said
    seen = say.ERROR_TOLD(by=who, said=said, seconds=error.seconds)
    if said in BY_A_FILTER:
        return undecided(
            Rung.WAY_BACK,
            seen,
            say.FILTER_FORBIDS(by=who, goal=goal.name),
            (Cause.STOPS_AT_HOP, Cause.DOOR_SILENT),
            say.ASK_WHO_LOOKS_AFTER(by=who, address=goal.address),
        )
    if said == NOBODY and here.way.router is not None:
        return broken(
            Rung.WAY_BACK,
            seen,
            Cause.NOBODY_THERE,
            say.ROUTER_FINDS_NOBODY(by=who, address=goal.address),
            say.DEVICE_POWER(),
        )
    if error.expired:
        return broken(
            Rung.WAY_BACK,
            seen,
            Cause.STOPS_AT_HOP,
            say.IN_A_CIRCLE(goal=goal.name, by=who),
            say.SHOWS_CIRCLE(trace=Line("trace", goal.address)),
        )
    return broken(
        Rung.WAY_BACK,
        seen,
        Cause.STOPS_AT_HOP,
        say.ENDS_AT(goal=goal.name, by=who, said=said),
        say.ROUTES_OF(by=who, network=assumed_network(goal.address)),
    )


def _nearer(goal: Goal, here: Situation, inside: FromInside) -> Finding:
    """The answers to an address nearer to the device's."""
    return say.NEARER_ANSWERED(
        source=here.way.source,
        answered=inside.answered,
        address=goal.address,
        nearer=inside.address,
        mask=inside.mask,
        mask_by=inside.by,
    )


def _answers_nearer(goal: Goal, here: Situation, inside: FromInside) -> Step:
    """The device answers an address nearer to its own, and no told mask is the reason."""
    mask = () if inside.mask is not None and prefix_length(inside.mask) else (Cause.MASK,)
    return undecided(
        Rung.WAY_BACK,
        _nearer(goal, here, inside),
        say.ANSWERS_NEARER(goal=goal.name, nearer=inside.address, source=here.way.source),
        (*mask, Cause.PING_IGNORED, Cause.DOOR_SILENT),
        say.READ_MASK_THERE(goal=str(goal)),
        say.MEANWHILE_NEARER(nearer=inside.address),
    )


def _mask(goal: Goal, here: Situation, inside: FromInside) -> Step:
    planned = here.row.interface.netmask if here.row is not None else None
    do: list[Advice] = []
    if planned is not None and planned != inside.mask and inside.can_be_set:
        do.append(Line("move", goal.name))
    elif planned is not None and planned != inside.mask:
        do.append(say.SET_MASK_THERE(planned_mask=planned))
    elif planned is not None:
        do.append(say.PLAN_LEAVES_OUT(match=Line("match", goal.name)))
    if inside.address is not None and inside.answered:
        do.append(say.MEANWHILE_NEARER(nearer=inside.address))
    return broken(
        Rung.WAY_BACK,
        _nearer(goal, here, inside),
        Cause.MASK,
        say.MASK_LEAVES_OUT(
            goal=goal.name, mask=inside.mask, source=here.way.source, planned_mask=planned
        ),
        *do,
    )


def _silence(goal: Goal, here: Situation, trial: Trial, inside: FromInside | None) -> Step:
    """Nothing came back, and nobody says why."""
    router, is_watched = here.way.router, trial.seen_out is not None
    fixed = here.fixed.get(goal.address) if router is None and is_watched else None
    nearer = inside.address if inside is not None and router is None and fixed is None else None
    told: dict[str, Value] = {
        "echoes": trial.echoes,
        "doors": len(trial.doors),
        "no_echoes": trial.no_echoes,
    }
    seen = say.NO_ANSWER(
        **told,
        routed=router is not None,
        watched=router is not None or is_watched,
        fixed=fixed,
        nearer=nearer if is_watched else None,
    )
    if router is not None:
        return undecided(
            Rung.WAY_BACK,
            seen,
            say.NOTHING_BY_ROUTER(goal=goal.name, router=router),
            (Cause.NOBODY_THERE, Cause.MASK, Cause.STOPS_AT_HOP),
            say.SHOWS_HOW_FAR(trace=Line("trace", goal.address)),
            say.FROM_ITS_WIRE(),
        )
    if not is_watched:
        return undecided(
            Rung.WAY_BACK,
            seen,
            say.ANSWERS_NOTHING(goal=goal.name),
            (Cause.MASK, Cause.PING_IGNORED, Cause.DOOR_SILENT, Cause.FIREWALL_IN),
            Line("why", goal.name, as_root=True),
        )
    if fixed is not None:
        return undecided(
            Rung.WAY_BACK,
            seen,
            say.NOTHING_FROM_FIXED(goal=goal.name, fixed=fixed),
            (Cause.NOBODY_THERE, Cause.FIXED_NEIGHBOUR),
            say.LOOK_FOR_ENTRY(address=goal.address),
            say.COMPARE_WITH_LABEL(),
        )
    return undecided(
        Rung.WAY_BACK,
        seen,
        say.ANSWERS_ARP_ONLY(goal=goal.name),
        (Cause.MASK, Cause.PING_IGNORED, Cause.DOOR_SILENT),
        say.NAME_THE_DOOR(why=Line("why", goal.name, "PORT")),
        say.DEVICE_SETTINGS(goal=str(goal)),
    )
