"""Makes ``src/portcall/site/registry.tsv.gz`` out of the IEEE's lists of small blocks of MACs.

The lists are public (https://standards.ieee.org/products-programs/regauth/); Debian has them in its
package ieee-data. The large blocks, of three octets, come with netaddr.
"""

from __future__ import annotations

import csv
import gzip
from pathlib import Path

LISTS = Path("/usr/share/ieee-data")
KEPT = Path(__file__).parents[1] / "src/portcall/site/registry.tsv.gz"


def main() -> None:
    """Write a line for each block: its first digits and who has it."""
    found: dict[str, str] = {}
    for name in ("iab.csv", "mam.csv", "oui36.csv"):
        with open(LISTS / name, encoding="utf-8", newline="") as file:
            for row in csv.DictReader(file):
                maker = " ".join(row["Organization Name"].split())
                if maker and maker != "Private":
                    found[row["Assignment"]] = maker[:60]
    text = "".join(f"{block}\t{maker}\n" for block, maker in sorted(found.items()))
    KEPT.write_bytes(gzip.compress(text.encode(), mtime=0))


if __name__ == "__main__":
    main()
