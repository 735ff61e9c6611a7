"""Rights that a program has by its file, whoever runs it."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.file_rights import (
        copy_with_rights,
        ignores_rights,
        require_file_rights,
        rights_of,
        runs,
    )
else:
    from portcall.host.linux.file_rights import (
        copy_with_rights,
        ignores_rights,
        require_file_rights,
        rights_of,
        runs,
    )

__all__ = ["copy_with_rights", "ignores_rights", "require_file_rights", "rights_of", "runs"]
