"""A machine that is poorer than a developer's: a short day's work, without what it may lack."""

import shlex

import pytest
from inside import Plant

_FILTERS = "for each in nft iptables; do at=$(command -v $each)"
_NO_FILTER = f'{_FILTERS} && mount --bind /dev/null "$at"; done; true'
_NO_TUNNEL, _CLOSED_TUNNEL = (
    f"test ! -e /dev/net/tun || mount {how}"
    for how in ("-t tmpfs none /dev/net", "--bind /dev/null /dev/net/tun")
)

LACKING = {
    "parts of the system": (
        (
            _NO_TUNNEL,
            _NO_FILTER,
            "sysctl -q net.ipv4.ping_group_range='1 0'",
            "sysctl -q net.ipv6.conf.all.disable_ipv6=1 || true",
        ),
        "exec",
    ),
    "a home, letters but those of English, files that others may read": (
        (_CLOSED_TUNNEL,),
        "umask 077; exec env -u HOME -u XDG_CACHE_HOME -u XDG_CONFIG_HOME -u LANG LC_ALL=C "
        "PYTHONUTF8=0 PYTHONCOERCECLOCALE=0",
    ),
    "a home that can be written, our time zone": (
        (),
        "umask 002; exec env HOME=/proc/nowhere TZ=Pacific/Chatham",
    ),
}

DAY = (
    ("adapters", 0, "usb0"),
    ("match dryer-plc --no-probe", 0, ""),
    ("find 10.61.20.10-21", 0, "dryer-plc"),
    ("verify dryer-plc", 0, "right"),
    ("reach dryer-plc --count 1", 0, "dryer-plc"),
    ("why dryer-plc", 0, ""),
    ("assign fan-drive-1 --keep --until-done --for 40", 0, "10.61.20.21"),
    ("status", 1, "verified right"),
    ("sketch s.svg", 0, ""),
    ("logbook export all.jsonl", 0, ""),
    ("restore", 0, ""),
)


@pytest.mark.long
@pytest.mark.parametrize("lacking", LACKING)
def test_a_days_work_is_done_without_what_a_machine_may_lack(lacking):
    taken_away, before = LACKING[lacking]
    with Plant() as plant:
        for line in taken_away:
            assert plant.run(f"sh -c {shlex.quote(line)}").code == 0, line
        for line, code, words in DAY:
            ended = plant.run(f"sh -c '{before} portcall {line}'")
            assert ended.code == code, (line, ended.out + ended.err)
            assert words in ended.out + ended.err, line
            assert "Traceback" not in ended.err
        left = plant.run("ls s.svg all.jsonl plan.csv").out.split()
        assert left == ["all.jsonl", "plan.csv", "s.svg"]
        assert plant.run("ip -o -4 addr show usb0").out == ""
