"""What differs from one operating system to another below networks.

Files and who owns them, locks, the computer's start, processes and their ends. Each system has a
module; this is what both of them are, and nobody else imports either.
"""

import sys

if sys.platform == "win32":
    from portcall.system.windows import (
        ENDINGS,
        HAS_NAMESPACES,
        SYSTEM,
        as_caller,
        callers_rights,
        flush_folder,
        has_it_to_itself,
        make_private,
        only_we_could_write,
        open_folder_lock,
        open_ordinary,
        person,
        process_named,
        seconds_up,
        state_home,
        this_start,
        whose_else,
        workstation,
    )
else:
    from portcall.system.posix import (
        ENDINGS,
        HAS_NAMESPACES,
        SYSTEM,
        as_caller,
        callers_rights,
        flush_folder,
        has_it_to_itself,
        make_private,
        only_we_could_write,
        open_folder_lock,
        open_ordinary,
        person,
        process_named,
        seconds_up,
        state_home,
        this_start,
        whose_else,
        workstation,
    )

__all__ = [
    "ENDINGS",
    "HAS_NAMESPACES",
    "SYSTEM",
    "as_caller",
    "callers_rights",
    "flush_folder",
    "has_it_to_itself",
    "make_private",
    "only_we_could_write",
    "open_folder_lock",
    "open_ordinary",
    "person",
    "process_named",
    "seconds_up",
    "state_home",
    "this_start",
    "whose_else",
    "workstation",
]
