"""Every line that is advised is typed in the situation in which it is advised, and leads on.

What is held against the source is complete: whoever has the program advise a new line makes a
situation for it here, or names the test that types it.
"""

import ast
import re
from dataclasses import dataclass
from pathlib import Path

import pytest
from inside import Plant
from test_inside import BOILER_HOUSE
from test_sitting import FRESH, WORKSTATION
from test_swap import NIGHT

import portcall

SOURCE = Path(portcall.__file__).parent
REFUSED = re.compile(r"^portcall: |^Traceback|nothing at all was heard|never asked", re.MULTILINE)
HAS_TO_SUCCEED = ("match", "move", "keep", "plan", "restore", "free", "find", "visit", "catalog")
AT_NO_TERMINAL = {
    "portcall assign": " --until-done --for 50",
    "portcall visit": " -- true",
    "portcall find": " --listen 1",
    "portcall plan take": " --all",
    "portcall plan import": " --yes",
}
"""What a person types, or answers, besides; to listen for a second is enough here."""

COMPLAINS = ("portcall plan check",)
"""Lines whose answer is what is wrong."""


@dataclass(frozen=True)
class Situation:
    """What is typed before; then, by what is asked, where a line comes from and how it reads.

    What is typed before ends with 0, or with 1 where it begins with an exclamation mark. ``fill``
    are the words that a person puts in the place of those in capitals; ``first`` is done before the
    line is typed, and ``hands`` is what somebody does at a device as soon as a line waits for it.
    """

    asked: dict[str, dict[str, str]]
    before: tuple[str, ...] = ()
    scenario: str | Path = ""
    plan: str = ""
    fill: tuple[tuple[str, str], ...] = ()
    first: str = ""
    hands: str = ""


def device(number, how):
    return FRESH.format(name=f"fresh-{number}", n=number, how=how)


IN_PLACES = WORKSTATION + "".join(
    (
        device(1, 'speaks = ["dcp"]\naddress = "10.61.20.22/24"'),
        device(3, 'speaks = ["cip"]\naddress = "10.61.20.23/24"'),
        device(4, 'speaks = ["cip"]\naddress = "10.61.20.24/16"'),
        device(5, 'speaks = ["cip"]\naddress = "10.61.20.25/16"'),
        device(6, 'speaks = ["dcp"]\naddress = "10.61.20.26/24"'),
        device(7, 'speaks = ["dcp"]\naddress = "10.61.20.26/24"'),
        device(8, 'speaks = ["dcp"]\naddress = "10.61.20.28/24"'),
        device(9, 'speaks = ["dcp"]\naddress = "10.61.20.29/24"'),
    )
)
RIGHT = WORKSTATION + "".join(
    (
        device(1, 'speaks = ["dcp"]\naddress = "10.61.20.21/24"'),
        device(2, 'speaks = ["web"]\naddress = "10.61.20.22/24"'),
        device(3, 'speaks = ["web"]\naddress = "10.61.20.23/24"'),
    )
)
PLANNED = """name,mac,address,mask
one,02-5A-1D-00-00-01,10.61.20.21,24
two,02-5A-1D-00-00-02,10.61.20.22,24
three,02-5A-1D-77-77-77,10.61.20.23,24
four,02-5A-1D-00-00-04,10.61.20.24,24
eight,02-5A-1D-00-00-18,10.61.20.28,24
nine,,10.61.20.29,24
"""
RADIO = "02-D0-11-5C-10-2"
MATCHED = "portcall match dryer-plc --no-probe"

SITUATIONS = {
    "nothing is done yet, and nobody is matched": Situation(
        {
            "portcall status": {
                "core.record.standing:standing: find": "portcall find",
                "cli.status:_print: find": "portcall find",
            },
            "portcall find": {
                "core.find.overview:_asking: assign … --match --keep": (
                    "portcall assign fan-drive-1 belt-drive --match --keep"
                ),
                "core.find.overview:_elsewhere: move …": "portcall move weigh-gateway io-island-1",
                "core.find.overview:_subnets_to_match: match …": "portcall match 203.0.113.0/24",
            },
            "portcall compare now": {
                "cli.compare:compare_command: compare last now": "portcall compare last now",
            },
            "portcall free 10.61.20.0/24 203.0.113.0/24": {
                "cli.free:_understood: free SUBNET COUNT": "portcall free SUBNET COUNT",
            },
            "portcall free 5000": {"cli.free:_understood: free": "portcall free"},
            "portcall reach dryr-x": {"core.plan.targets:unknown: plan show": "portcall plan show"},
        },
        fill=(("SUBNET", "10.61.20.0/24"), ("COUNT", "2")),
        hands="portcall plant fault weigh-gateway moved 10.61.20.40/24",
    ),
    "this computer is matched": Situation(
        {
            "portcall": {
                "cli.standing:_lines: visit NAME": "portcall visit NAME",
                "cli.standing:_computer: restore": "portcall restore",
            },
            "portcall find 203.0.113.40": {
                "core.find.remarks:_among_others: match …": "portcall match 203.0.113.40",
                "core.find.remarks:_against_plan: verify …": "portcall verify weigh-gateway",
            },
        },
        before=(MATCHED,),
        fill=(("NAME", "dryer-plc"),),
    ),
    "this computer is matched, and devices ask": Situation(
        {
            "portcall move fan-drive-1": {
                "jobs.setting.move_each:_obstacle: assign … --keep": (
                    "portcall assign fan-drive-1 --keep"
                ),
            },
            "portcall assign --for 1": {
                "jobs.assign.silent:HasAnAddress.__str__: move …": "portcall move io-island-1",
            },
        },
        before=(MATCHED,),
    ),
    "this computer is matched, and others look": Situation(
        {
            "portcall find": {
                "core.find.overview:_asking: assign … --keep": (
                    "portcall assign fan-drive-1 belt-drive --keep"
                ),
                "core.find.overview:_unheard: why …": "portcall why pier-radio",
                "core.find.overview:_unknown_asking: assign …=ADDRESS --keep": (
                    "portcall assign 02-60-D1-12-08-77=ADDRESS --keep"
                ),
            },
            "portcall verify": {
                "core.verify.judgement:_judge: move …": "portcall move weigh-gateway",
            },
            "portcall status": {
                "core.record.standing:RowStanding.next_line: why …": "portcall why fan-drive-2",
                "core.record.standing:RowStanding.next_line: plan set … mac=MAC": (
                    "portcall plan set pier-radio mac=MAC"
                ),
            },
        },
        before=(MATCHED,),
        fill=(*(("ADDRESS", "10.61.20.77"), ("MAC", "02-D0-11-5C-10-21")),),
        hands="portcall plant fault weigh-gateway moved 10.61.20.40/24",
    ),
    "what cannot be a row, and what is read by hand": Situation(
        {
            "portcall plan take --dry-run": {
                "core.find.proposing:_add_by_hand: plan add NAME ADDRESS/N --mac …": (
                    "portcall plan add NAME ADDRESS/N --mac 02-60-D1-2A-31-0C"
                ),
            },
            "portcall verify shore-radio --read mask=255.255.255.0": {
                "cli.verify:_write_down: plan set … mac=MAC": (
                    "portcall plan set shore-radio mac=MAC"
                ),
            },
            "portcall swap pier-radio --yes": {
                "cli.swap:_row: plan set … mac=MAC": "portcall plan set pier-radio mac=MAC",
            },
            "portcall keep weigh-gateway": {
                "jobs.look.locate:_located: why …": "portcall why weigh-gateway",
            },
            "portcall visit io-island-1 -- true": {
                "jobs.look.meeting:NoAddress.__str__: move …": "portcall move io-island-1",
            },
            "portcall visit belt-drive -- true": {
                "jobs.look.meeting:meet: assign … --keep": "portcall assign belt-drive --keep",
            },
            "portcall verify fan-drive-1": {
                "core.verify.judgement:_judge: assign … --keep": (
                    "portcall assign fan-drive-1 --keep"
                ),
            },
        },
        before=(MATCHED,),
        fill=(
            *(("ADDRESS/N", "10.61.20.42/24"), ("NAME", "probe")),
            *(("pier-radio mac=MAC", f"pier-radio mac={RADIO}1"), ("MAC", f"{RADIO}2")),
        ),
    ),
    "devices in each other's places": Situation(
        {
            "portcall reach three --count 1": {
                "jobs.reach.reach:AnotherDevice.__str__: why …": "portcall why three",
            },
            "portcall plan take --dry-run": {
                "core.find.proposing:_obstacle: why …": "portcall why three",
                "core.find.proposing:_obstacle: move … --to ADDRESS/N": (
                    "portcall move 02-5A-1D-00-00-06 --to ADDRESS/N"
                ),
                "core.find.proposing:_with_mac: plan set … mac=…": (
                    "portcall plan set nine mac=02-5A-1D-00-00-09"
                ),
            },
            "portcall find --listen 1": {
                "core.find.overview:_in_anothers_place: move …": "portcall move one",
                "core.find.overview:_in_anothers_place: why …": "portcall why three",
                "core.find.overview:_other_masks: move …": "portcall move four",
                "core.find.overview:_other_masks: move … --to …": (
                    "portcall move 02-5A-1D-00-00-05 --to 10.61.20.25/24"
                ),
            },
        },
        before=("portcall match 10.61.20.0/24 --no-probe",),
        scenario=IN_PLACES,
        plan=PLANNED,
        fill=(("ADDRESS/N", "10.61.20.36/24"),),
    ),
    "devices that are verified elsewhere, or otherwise": Situation(
        {
            "portcall find --listen 1": {
                "core.find.overview:_shared: why …": "portcall why 10.61.20.26",
            },
            "portcall find one": {
                "core.find.remarks:_against_plan: move …": "portcall move one",
            },
            "portcall verify four": {
                "core.verify.planned_values:hold: move …": "portcall move four",
            },
            "portcall status": {
                "core.record.standing:RowStanding.next_line: verify …": "portcall verify one",
                "core.record.standing:RowStanding.next_line: why …": "portcall why two",
            },
        },
        before=("portcall match 10.61.20.0/24 --no-probe",),
        scenario=IN_PLACES,
        plan=PLANNED,
    ),
    "something inside a device is missing": Situation(
        {
            "portcall verify boiler-ai": {
                "core.verify.parts:_inner: why …": "portcall why boiler-ai",
            },
            "portcall reach ash-scale --count 1": {
                "cli.reach:_say_what_is_reached: why …": "portcall why ash-scale",
            },
            "portcall find flow-gateway": {
                "core.find.remarks:_manners: find … --inside": (
                    "portcall find 10.61.40.20 --inside"
                ),
            },
        },
        before=(
            "portcall plant fault boiler-plc slot-empty 1",
            "portcall plant fault flow-gateway unit-silent 1",
            "portcall plant fault flow-gateway unit-silent 2",
        ),
        scenario=BOILER_HOUSE,
        # All 247 take a quarter of an hour.
        fill=(("--inside", "--unit 5-9 --unpaced"),),
    ),
    "a device with something inside is away": Situation(
        {
            "portcall verify ash-scale": {
                "core.verify.parts:_judged: why …": "portcall why flow-gateway",
            },
        },
        before=("portcall plant unplug flow-gateway",),
        scenario=BOILER_HOUSE,
    ),
    "this computer has a device's address": Situation(
        {
            "portcall why 10.61.20.60": {
                "jobs.why.why:prepare: match … --replace --adapter …": (
                    "portcall match 10.61.20.60 --replace --adapter usb0"
                ),
            },
        },
        before=("ip addr add 10.61.20.60/24 dev usb0",),
    ),
    "this computer has a planned address": Situation(
        {
            "portcall match dryer-plc": {
                "cli.match:match_command: match … --replace": "portcall match dryer-plc --replace",
            },
            "portcall find --listen 1": {
                "core.find.overview:_own_taken: match … --replace": (
                    "portcall match 10.61.20.0/24 --replace"
                ),
            },
            "portcall verify dryer-plc": {
                "core.verify.judgement:_own_address: match … --replace --adapter …": (
                    "portcall match dryer-plc --replace --adapter usb0"
                ),
            },
            "portcall assign --for 1": {
                "jobs.assign.rows:in_reach: match … --replace": (
                    "portcall match dryer-plc --replace"
                ),
            },
        },
        before=("ip addr add 10.61.20.10/24 dev usb0",),
    ),
    "there is no plan": Situation(
        {
            "portcall free": {"core.plan.unplanned:own_span: free SUBNET": "portcall free SUBNET"},
            "portcall assign --temporary 10.61.20.50-60 --for 1": {
                "jobs.assign.rows:in_reach: match SUBNET": "portcall match SUBNET",
            },
            "portcall compare": {
                "jobs.record.reading:Looks.from_the_end: find": "portcall find",
            },
            "portcall reach 300": {"jobs.record.rows:listed_row: find": "portcall find"},
            "portcall plan check": {"cli.plan.check:_read: plan take": "portcall plan take"},
        },
        scenario=IN_PLACES,
        fill=(("SUBNET", "10.61.20.0/24"),),
    ),
    "nothing is planned": Situation(
        {
            "portcall verify": {"cli.options:plan_that_is_there: plan take": "portcall plan take"},
        },
        scenario=IN_PLACES,
    ),
    "nobody has looked": Situation(
        {"portcall": {"cli.standing:_next: find": "portcall find"}}, scenario=IN_PLACES
    ),
    "somebody has looked, and nothing is planned": Situation(
        {"portcall": {"cli.standing:_next: plan take": "portcall plan take"}},
        before=("portcall find --listen 1",),
        scenario=IN_PLACES,
    ),
    "all is right, but not proven": Situation(
        {
            "portcall keep panel": {
                "jobs.setting.keep_one:_no_way: verify --power-cycle …": (
                    "portcall verify --power-cycle panel"
                ),
            },
        },
        before=("portcall match 10.61.20.0/24 --no-probe",),
        scenario=RIGHT,
        plan="name,mac,address,mask\nisland,02-5A-1D-00-00-01,10.61.20.21,\n"
        "panel,02-5A-1D-00-00-02,10.61.20.22,\n",
        hands="portcall plant power-cycle fresh-2",
    ),
    "all is right, but not set, or only given": Situation(
        {
            "portcall status": {
                "core.record.standing:RowStanding.next_line: verify --power-cycle …": (
                    "portcall verify --power-cycle weigh-gateway"
                ),
                "core.record.standing:RowStanding.next_line: keep …": "portcall keep belt-drive",
            },
        },
        before=(
            *(MATCHED, "portcall plant fault weigh-gateway moved 10.61.20.40/24"),
            *("portcall assign belt-drive --until-done --for 50", "!portcall keep weigh-gateway"),
            *("portcall verify weigh-gateway --read mask=24", "portcall verify belt-drive"),
        ),
        hands="portcall plant power-cycle weigh-gateway",
    ),
    "all planned is right, and others are there": Situation(
        {"portcall": {"cli.standing:_next: verify": "portcall verify"}},
        before=(
            *("portcall match 10.61.20.0/24 --no-probe", "portcall verify", "portcall keep island"),
            "portcall verify",
        ),
        scenario=RIGHT,
        plan="name,mac,address,mask\nisland,02-5A-1D-00-00-01,10.61.20.21,24\n",
    ),
    "all is done": Situation(
        {"portcall": {"cli.standing:_next: report FILE": "portcall report FILE"}},
        before=(
            *("portcall match 10.61.20.0/24 --no-probe", "portcall verify", "portcall keep island"),
            "portcall verify",
        ),
        scenario=WORKSTATION + device(1, 'speaks = ["dcp"]\naddress = "10.61.20.21/24"'),
        plan="name,mac,address,mask\nisland,02-5A-1D-00-00-01,10.61.20.21,24\n",
        fill=(("FILE", "record.xlsx"),),
    ),
    "the plan is no plan": Situation(
        {
            "portcall plan show": {
                "core.plan.text:decode: plan import FILE": "portcall plan import FILE"
            },
        },
        before=(*("portcall plan export list.xlsx", "mv list.xlsx plan.csv"),),
        fill=(("FILE", "rows.xlsx"),),
        first="mv plan.csv rows.xlsx",
    ),
    "the plan has mistakes": Situation(
        {"portcall": {"cli.standing:say_where_one_stands: plan check": "portcall plan check"}},
        scenario=RIGHT,
        plan="name,mac,address,mask\nisland,02-5A-1D-00-00-01,10.61.20.210.1,24\n",
    ),
    "one device is alone in its subnet, and the plan has two": Situation(
        {
            "portcall find": {
                "core.find.overview:_subnets_to_match: visit …": "portcall visit 192.168.78.1",
            },
            "portcall free": {
                "core.plan.unplanned:own_span: free …": "portcall free 10.61.20.0/24"
            },
            "portcall assign --for 1": {
                "jobs.assign.rows:in_reach: match …": "portcall match 10.61.20.21",
            },
            "portcall match --dhcp": {
                "jobs.workstation.match_dhcp:best_offer: match ADDRESS": "portcall match ADDRESS",
            },
            "portcall find 192.168.77.0/24": {
                "core.find.overview:_elsewhere: verify …": "portcall verify island",
            },
        },
        scenario=WORKSTATION
        + device(1, 'speaks = ["cip"]\naddress = "192.168.77.1/24"')
        + device(2, 'speaks = ["cip"]\naddress = "192.168.78.1/24"'),
        plan="name,mac,address,mask\nisland,02-5A-1D-00-00-01,10.61.20.21,24\n"
        "other,,10.61.21.21,24\n",
        fill=(("ADDRESS", "192.168.77.1"),),
    ),
    "what keep and a power cycle find": Situation(
        {
            "portcall keep four": {
                "jobs.setting.keep_one:_kept: move …": "portcall move four",
            },
            "portcall keep five spare": {
                "jobs.setting.keep_each:_obstacle: move …": "portcall move five",
            },
            "portcall verify --power-cycle one": {
                "jobs.setting.power_cycle:watch_power_cycle: verify": "portcall verify",
            },
        },
        before=("portcall match 10.61.20.0/24 --no-probe",),
        scenario=IN_PLACES,
        plan=PLANNED
        + "five,02-5A-1D-00-00-05,10.61.20.35,24\nspare,02-5A-1D-44-44-44,10.61.20.25,24\n",
    ),
    "this computer's own firewall": Situation(
        {
            "portcall verify dryer-plc": {
                "core.verify.judgement:_judge: why …": "portcall why dryer-plc",
            },
        },
        before=(MATCHED, "portcall plant fault usb0 firewall-in 10.61.20.10"),
    ),
    "a device that is slow": Situation(
        {
            "portcall reach dryer-plc --count 1 --wait 0.05": {
                "jobs.reach.reach:_late: reach … --wait …": "portcall reach 10.61.20.10 --wait 4",
            },
            "portcall plant fault dryer-plc slow": {
                "plant.faults:Faults.make: plant mend …": "portcall plant mend dryer-plc",
            },
        },
        before=(MATCHED, "portcall plant fault dryer-plc slow"),
    ),
    "a device that answers no echo": Situation(
        {
            "portcall reach dryer-plc --count 1": {
                "jobs.why.reasons:reasons_beside: why …": "portcall why dryer-plc",
            },
            "portcall match dryer-plc": {},
            "portcall reach dryer-plc --count 1 ": {
                "jobs.why.reasons:reasons: why …": "portcall why dryer-plc",
            },
        },
        before=("portcall plant fault dryer-plc ping-ignored",),
    ),
    "this computer forwards": Situation(
        {
            "portcall verify dryer-plc": {
                "jobs.verify:_refused: match …": "portcall match 10.61.20.10",
            },
        },
        before=("sysctl -w net.ipv4.conf.usb0.forwarding=1",),
    ),
    "a rough cable": Situation(
        {
            "portcall plant fault dryer-plc slow": {
                "plant.wiring:Wiring.roughen: plant mend …": "portcall plant mend dryer-plc",
            },
        },
        before=("portcall plant fault dryer-plc lossy 10%",),
    ),
    "the address of the one that died is this computer's": Situation(
        {
            "portcall swap fan-drive --yes": {
                "core.swap:in_the_way: match … --replace": "portcall match fan-drive --replace",
            },
        },
        before=(
            *("portcall plant unplug fan-drive", "portcall plant plug new-fan-drive --wire plant"),
            *("portcall match fan-drive --no-probe", "ip addr add 10.61.20.21/24 dev usb0"),
        ),
        scenario=NIGHT,
    ),
}

_SWAP, _SITTING, _SO = "test_swap.py", "test_sitting.py", "test_what_is_so.py"
_HANDS_OUT = f"{_SO}::test_who_gives_out_addresses_is_named_by_asking"
_ROWS = f"{_SITTING}::test_a_number_is_that_row_as_long_as_the_list_is_new_and_the_row_is_so"
_VISITED = f"{_SITTING}::test_reach_and_trace_ask_from_a_borrowed_address_and_open_says_to_go_in"
_CATALOG = "test_looking.py::test_the_catalogue_names_what_devices_say_in_numbers"
_SHELL = (
    "test_shortest_way.py::test_another_terminal_joins_a_plant_and_what_practice_writes_stays_in_it"
)
ELSEWHERE = {
    "cli.free:_end: plan add NAME …": (
        "test_free.py::test_the_next_numbers_are_free_and_the_line_that_is_advised_plans_one"
    ),
    "cli.open:open_command: visit …": _VISITED,
    "jobs.reach.reach:_beside: visit …": _VISITED,
    "jobs.reach.standing:_put_it_there: visit …": _VISITED,
    "jobs.record.rows:meant_by: find": _ROWS,
    "core.plan.unset:to_get_an_address: find": _ROWS,
    "core.plan.unset:to_get_an_address: assign … --match --keep": _ROWS,
    "core.plan.unset:to_get_an_address: move … --to ADDRESS/N": (
        f"{_SITTING}::test_the_next_free_address_is_taken_for_a_row_and_for_a_move"
    ),
    "core.find.proposing:_add_by_hand: plan add NAME ADDRESS/N": (
        f"{_SITTING}::test_the_next_free_address_is_taken_for_a_row_and_for_a_move"
    ),
    "cli.views.devices:Found.next_steps: find …": (
        f"{_SITTING}::test_at_a_bare_cable_all_who_are_unset_are_found_identified_and_marked"
    ),
    "cli.views.devices:_incomplete: find …": (
        f"{_SO}::test_a_list_that_is_incomplete_says_so_first_with_the_line_to_type"
    ),
    "core.find.overview:_servers: match --dhcp": _HANDS_OUT,
    "jobs.workstation.match:HandsOut.__str__: match --dhcp": _HANDS_OUT,
    "core.swap:unlike: plan set … …=…": (
        f"{_SWAP}::test_an_older_firmware_is_told_once_in_words_and_the_line_with_it_leads_on"
    ),
    "jobs.swap.swap:_another: swap … --with … --other-product": (
        f"{_SWAP}::test_another_product_is_refused_and_neither_kept_nor_planned_without_a_plain_yes"
    ),
    "core.find.overview:_unknown_asking: assign --keep": (
        f"{_SITTING}::test_without_a_plan_assign_asks_who_gets_which_address_and_the_plan_grows"
    ),
    "core.plan.unset:to_get_an_address: move …": _ROWS,
    "core.verify.planned_values:not_read: verify … …": (
        f"{_SO}::test_verify_of_some_names_judges_those_and_no_other"
    ),
    "cli.swap:_row: assign …": (
        "test_real_clients.py::test_through_a_relay_agent_by_mac_and_by_place"
    ),
    "cli.views.swapped:_lines: swap …": (
        f"{_SWAP}::test_killed_at_any_moment_and_typed_again_it_is_right"
    ),
    "core.find.overview:_to_name: catalog add FILE": _CATALOG,
    "core.find.remarks:_unrecognised: catalog add FILE": _CATALOG,
    "plant.control:_ask: plant shell": _SHELL,
    "plant.join:plant_to_join: plant shell": _SHELL,
}
"""Lines that another test types, by the test."""

BY_CHANCE = {
    "core.verify.judgement:_present: why …",
    "core.verify.judgement:_unless_interrupted: verify …",
    "jobs.assign.silent:HasAnAddress.__str__: verify …",
    "jobs.reach.reach:_late: reach …",
    "jobs.setting.keep_each:_obstacle: assign … --keep",
    "jobs.setting.keep_each:_obstacle: move … --to ADDRESS/N",
    "jobs.setting.keep_one:_change: find",
    "jobs.setting.move_one:_proven: verify",
    "jobs.setting.mover:_compared: verify",
    "jobs.sketch.sketch:_check_count: find RANGE",
}
"""Lines for what happens within the tenths of a second, or in a plant of thousands, that a test
here cannot make at will. Each is a look or a judgement, which are typed above."""


def word(node):
    """A word of a line in the source: itself where it is constant, else …"""
    if isinstance(node, ast.Constant):
        return str(node.value)
    if isinstance(node, ast.Call):
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if name == "Setting":
            return "=".join(map(word, node.args))
        if name == "Name" and isinstance(node.args[0], ast.Constant):
            return str(node.args[0].value)
    return "…"


def lines_in(node, place):
    """Where a line to type is made, and its words."""
    for child in ast.iter_child_nodes(node):
        inside = place
        if isinstance(child, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
            inside = (*place, child.name)
        if isinstance(child, ast.Call) and getattr(child.func, "id", "") == "Line":
            yield ".".join(place), " ".join(map(word, child.args))
        yield from lines_in(child, inside)


def all_lines():
    for path in SOURCE.rglob("*.py"):
        module = ".".join(path.relative_to(SOURCE).with_suffix("").parts)
        for place, words in lines_in(ast.parse(path.read_text()), ()):
            yield f"{module}:{place}: {words}"


def test_every_line_that_the_program_can_advise_is_typed_by_a_test():
    # The lines of why are typed by test_why.py, those of Windows by tests/windows.
    others = ("core.why.", "core.finding:", "host.windows.")
    advised = {each for each in all_lines() if not each.startswith(others)}
    here = {line for each in SITUATIONS.values() for told in each.asked.values() for line in told}
    assert advised - here - set(ELSEWHERE) - BY_CHANCE == set()
    assert here | set(ELSEWHERE) | BY_CHANCE <= advised
    for test in ELSEWHERE.values():
        file, _, name = test.partition("::")
        assert f"def {name}(" in (Path(__file__).parent / file).read_text(), test


@pytest.mark.long
@pytest.mark.parametrize("name", SITUATIONS)
def test_what_is_advised_leads_on(tmp_path, name):
    situation = SITUATIONS[name]
    made = situation.scenario or None
    if isinstance(made, str):
        made = tmp_path / "plant.toml"
        made.write_text(str(situation.scenario))
        (tmp_path / "site").mkdir()
        (tmp_path / "site" / "site.toml").write_text('name = "advised"\n')
        if situation.plan:
            (tmp_path / "site" / "plan.csv").write_text(situation.plan)
    with Plant(made) as plant:
        for line in situation.before:
            assert plant.run(line.removeprefix("!")).code == line.startswith("!"), line
        for asked, lines in situation.asked.items():
            told = plant.run(f"env PORTCALL_COLUMNS=300 {asked}")
            for shown in lines.values():
                assert shown in told.out + told.err, (asked, told)
            for shown in dict.fromkeys(lines.values()):
                leads_on(plant, situation, shown)


def leads_on(plant, situation, shown):
    """Type a line as a person does, who fills in what stands there in capitals."""
    verb = shown.split()[1]
    typed = shown + "".join(AT_NO_TERMINAL[e] for e in AT_NO_TERMINAL if shown.startswith(e))
    for capitals, filled in situation.fill:
        typed = typed.replace(capitals, filled)
    if situation.first:
        plant.run(situation.first)
    started = plant.start(typed)
    if situation.hands and re.search("move .*gateway|power-cycle", typed):
        plant.until(started, "watching ")
        plant.run(situation.hands)
    ended = plant.finish(started, timeout=100)
    if typed in COMPLAINS:
        assert (ended.code, "plan.csv line 2, column address" in ended.err) == (2, True), ended
        return
    assert ended.code in ((0,) if verb in HAS_TO_SUCCEED else (0, 1)), (typed, ended)
    assert not REFUSED.search(ended.out + ended.err), (typed, ended)
    if verb == "match":
        assert plant.run("portcall restore").code == 0
