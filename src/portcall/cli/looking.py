"""A look that is drawn while it runs, and written down so that its rows are known by number."""

from __future__ import annotations

from portcall.cli.recording import recorded
from portcall.cli.running import run_until_interrupted
from portcall.cli.say import note
from portcall.cli.views.devices import Found
from portcall.cli.views.finding import finding_view
from portcall.core.adapters.adapter import Adapter
from portcall.core.counted import counted
from portcall.core.find.devices import Gathering
from portcall.core.record.entry import Kind
from portcall.jobs.look.findings import Orders
from portcall.jobs.look.looked import Looked, look
from portcall.jobs.record.looks import look_body
from portcall.jobs.record.rows import NUMBERED
from portcall.site.folder import Site


def look_for_list(
    adapter: Adapter, site: Site, gathering: Gathering, orders: Orders, whole: bool, listed: bool
) -> tuple[Found, Looked]:
    """Look until it is over or Ctrl-C ends it; ``whole`` says that a document is to come.

    ``listed``: its rows are shown with numbers, by which a person may name them.
    """
    with finding_view(gathering, whole) as draw:
        looked, _ = run_until_interrupted(
            lambda stop: look(adapter, orders, gathering, stop=stop, progress=draw, tell=note)
        )
    asked = () if looked.interrupted else looked.look.swept
    seen = looked.look
    found = Found(gathering, adapter.interfaces, site, seen.unsearched, asked, seen.asked_singly)
    told = f"{counted(len(found.devices), 'device')}{' so far' if looked.interrupted else ''}"
    body = look_body(looked, found.devices, **({NUMBERED: True} if listed else {}))
    recorded(site, Kind.LOOK, told, body, adapter=adapter.name)
    return found, looked
