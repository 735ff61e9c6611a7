"""The shell, or the one line, that a person has while a visit lasts."""

from __future__ import annotations

import os
from collections.abc import Sequence

from portcall.core.printable import printable
from portcall.core.trouble import BadInput
from portcall.host.privilege import Privilege
from portcall.host.rights import require_asking
from portcall.host.shell import Beside, finds, own_shell, run_beside
from portcall.jobs.workstation.adapters import ADAPTER_VARIABLE
from portcall.jobs.workstation.stay import Stay
from portcall.site.visits import VISIT_VARIABLE, shell_folder

TARGET_VARIABLE = "PORTCALL_TARGET"
"""The address that is visited, as it was at the beginning, for lines that are not ours."""


def require_for_visit(words: Sequence[str]) -> None:
    """Raise BadInput for a line of a program that is not here, NotPossibleHere without rights."""
    if words and not finds(words[0]):
        raise BadInput(f"{printable(words[0], 60)}: there is no such program here")
    require_asking(Privilege.NET_ADMIN)


async def last(stay: Stay, words: Sequence[str]) -> int:
    """Have the visit last while the person's line runs, or a shell; the exit code of that."""
    visited = stay.visited
    mark = f"({visited.name})"
    program = Beside(list(words), {}) if words else own_shell(mark, shell_folder())
    program.variables |= {
        ADAPTER_VARIABLE: visited.adapter,
        VISIT_VARIABLE: str(os.getpid()),
        TARGET_VARIABLE: str(visited.address or visited.name),
    }
    return await run_beside(program, stay.run)
