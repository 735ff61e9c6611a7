"""A look for a command that is about looks, written down like any other."""

from __future__ import annotations

import json
from functools import partial

from portcall.cli.options import chosen_adapter
from portcall.cli.recording import recorded
from portcall.cli.running import run_until_interrupted
from portcall.cli.say import note
from portcall.core.counted import counted
from portcall.core.record.entry import Kind
from portcall.core.record.look import read_look
from portcall.jobs.look.looked import look
from portcall.jobs.look.orders import gathering_for, orders_for
from portcall.jobs.record.looks import look_body
from portcall.jobs.record.reading import NamedLook
from portcall.site.folder import Site


def look_afresh(site: Site) -> NamedLook | None:
    """Look, and write it down; None when Ctrl-C ended that."""
    gathering = gathering_for(site)
    adapter = chosen_adapter()
    orders = orders_for(adapter, site, gathering)
    work = partial(look, adapter, orders, gathering, tell=note)
    looked, interrupted = run_until_interrupted(lambda stop: work(stop=stop))
    if interrupted:
        return None
    devices = gathering.devices()
    body = look_body(looked, devices)
    entry = recorded(site, Kind.LOOK, counted(len(devices), "device"), body, adapter=adapter.name)
    # Pass it through JSON, because the look that it is compared with comes from there.
    afresh = read_look(json.loads(json.dumps(body)))
    assert afresh is not None
    return NamedLook("now", afresh, entry)
