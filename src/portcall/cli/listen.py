"""``portcall listen``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from ipaddress import IPv4Interface
from pathlib import Path

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_file,
    capture_option,
    chosen_adapter,
    json_option,
    named_adapter,
    plan_if_sound,
)
from portcall.cli.running import run_until_interrupted
from portcall.cli.say import note, print_json_list, wants_json
from portcall.cli.table import wide_option
from portcall.cli.views.devices import Found, ending, print_found, summary
from portcall.cli.views.progress import progress_bar
from portcall.core.counted import counted
from portcall.core.find.devices import Gathering
from portcall.core.find.sighting import Method
from portcall.core.find.subnets import spoken
from portcall.core.record.look import device_document
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.jobs.look.listen import read_into
from portcall.jobs.look.looked import look
from portcall.jobs.look.orders import gathering_for, orders_for
from portcall.site.folder import Site, this_site

_LISTEN_SECONDS = 30.0
"""As long as a switch takes to announce itself."""


@click.command("listen")
@click.option(
    "--for",
    "seconds",
    metavar="SECONDS",
    type=click.FloatRange(0.1, 86400),
    default=_LISTEN_SECONDS,
    show_default=True,
    help="Seconds to listen.",
)
@click.option(
    "--from",
    "source",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Read a capture (pcap or pcapng) instead of the wire.",
)
@wide_option
@adapter_option
@capture_option
@json_option
def listen_command(
    seconds: float,
    source: Path | None,
    wide: bool,
) -> int:
    """Send nothing: who asks for an address, who announces itself, which subnets are heard.

    \b
    portcall listen --for 60
    portcall listen --from heard.pcapng
    """
    site = this_site()
    gathering = gathering_for(site, plan_if_sound(site))
    if source is not None:
        if named_adapter() or capture_file():
            raise BadInput("--from reads a file: leave out --adapter and --capture")
        read = read_into(gathering, source)
        heard = f"{read.frames} frames over {read.seconds:.0f} s in {source}"
        return _tell(gathering, site, None, heard, wide)
    adapter = chosen_adapter(harmless=True)
    orders = replace(
        orders_for(adapter, site, gathering),
        methods=(Method.LISTEN, Method.LLDP),
        ranges=(),
        listen=seconds,
    )
    with progress_bar() as draw:
        looked, _ = run_until_interrupted(
            lambda stop: look(adapter, orders, gathering, stop=stop, progress=draw, tell=note)
        )
    for each in looked.look.not_run:
        raise NotPossibleHere(each.reason)
    heard = "until interrupted" if looked.interrupted else f"for {seconds:g} s"
    code = _tell(gathering, site, adapter.interfaces, f"{adapter.name}, {heard}", wide)
    return ending(looked, code)


def _tell(
    gathering: Gathering,
    site: Site,
    own: Sequence[IPv4Interface] | None,
    heard: str,
    wide: bool,
) -> int:
    found = Found(gathering, own, site)
    here = [each.network for each in own or ()]
    known = [*here, *(subnet.network for subnet in site.subnets)]
    subnets = spoken(found.devices, known)
    if wants_json():
        entries = (device_document(device, found.remarks(device)) for device in found.devices)
        tail = {
            **summary(found),
            "subnets": [
                {"network": str(s.network), "devices": s.devices, "mask_assumed": s.assumed}
                for s in subnets
            ],
        }
        print_json_list({"heard": heard}, "devices", entries, tail)
        return YES if found.devices else NO
    if found.devices:
        print_found(found, wide)
    heard_of = counted(len(found.devices), "device") if found.devices else "no devices"
    note(f"{heard_of} heard on {heard}; nothing was sent")
    return YES if found.devices else NO
