"""The names that devices are to call themselves."""

from __future__ import annotations

from portcall.core.finding import Finding
from portcall.core.plan.targets import Meant
from portcall.core.setting import sentences as say
from portcall.core.setting.names import check_host_name, check_station_name
from portcall.core.trouble import BadInput


def names_for(meant: Meant, typed: str | None) -> tuple[str | None, tuple[Finding, ...]]:
    """The name for a device, or why it gets none. Raises BadInput for a typed one that is none.

    It has to do for DCP and for CIP. What the plan calls a device may be no name for a device. One
    that is not in the plan keeps the name it has, unless one is typed; so does one of which an
    interface is set, whose row is named after that.
    """
    planned = meant.row is not None and not meant.row.is_typed and not meant.row.of
    name = meant.row.name.lower() if typed is None and meant.row and planned else typed
    if name is None:
        return None, ()
    try:
        check_station_name(name)
        check_host_name(name)
    except BadInput as trouble:
        if typed is not None:
            raise
        return None, (say.NO_NAME(because=str(trouble)),)
    return name, ()
