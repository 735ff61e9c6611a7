"""The workstation: its adapters watched, matched in every way, and put back whatever happens."""

import json
import re
import signal
import time

import pytest
from inside import PORTCALL, Plant
from laptop import IS_WANTED, KILLED, otherwise

from conftest import need
from moments import some


def state(plant):
    """Addresses, flags and routes, but for lifetimes, which run; on Windows the first and last."""
    if IS_WANTED:
        own = re.findall(r"inet (\S+)", plant.run("ip -4 addr").out)
        # Which address of a subnet is its first is of no account there.
        ways = re.sub(r" src \S+", "", plant.run("ip -4 route").out)
        return sorted((*own, *ways.splitlines()))
    text = plant.run("ip -d addr").out + plant.run("ip route").out
    return re.sub(r"\d+sec", "some sec", text)


def test_match_skips_taken_addresses_and_takes_what_is_typed(plant):
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("portcall assign fan-drive-1 --until-done --for 15")
    plant.run("portcall restore")
    plant.run("rm plan.csv site.toml")
    # Free host numbers are tried from the top down; of this small subnet .14 and .13 are free.
    plant.run("portcall plant on spare-1 -- ip addr add 10.61.20.14/28 dev eth0")
    taken = plant.run("portcall match 10.61.20.0/28 --json")
    assert taken.json["address"] == "10.61.20.13"
    assert "10.61.20.14 is taken, 02-60-D1-00-5E-01 has it" in taken.err
    plant.run("portcall restore")
    taken = plant.run("portcall match 10.61.20.11 --json")
    assert taken.json["address"] == "10.61.20.254"
    assert taken.json["prefix_from"] == "assumed"
    plant.run("portcall restore")
    for_hand = plant.run("portcall match 10.61.20.11 --address 10.61.20.21/24")
    assert for_hand.code == 3
    *_, last = for_hand.err.splitlines()
    assert last.endswith("10.61.20.21 is taken, 02-77-B1-4C-09-21 has it; nothing is changed")
    assert "no address is left" not in for_hand.err
    two = plant.run("portcall match 203.0.113.40 --address 203.0.113.9/25 --no-probe")
    assert two.code == 0
    assert "usb0 now has 203.0.113.9/25" in two.out
    assert plant.run("portcall match 10.61.20.11 --no-probe").code == 0
    listed = plant.run("portcall adapters --json").json["adapters"][1]["addresses"]
    assert [entry["from"] for entry in listed] == ["matched", "matched"]
    assert plant.run("portcall restore").code == 0
    assert plant.run("ip -4 -o addr show usb0").out == ""


@pytest.mark.windows
def test_restore_says_when_others_changed_the_adapter(plant):
    plant.run("ip addr add 10.61.20.5/24 dev usb0")
    before = plant.run("ip -o addr show usb0").out
    assert plant.run("portcall match 203.0.113.40 --no-probe").code == 0
    assert plant.run("portcall restore").out.endswith("as it was before: 10.61.20.5/24\n")
    assert plant.run("ip -o addr show usb0").out == before
    plant.run("portcall match 203.0.113.40 --no-probe")
    plant.run("ip addr del 10.61.20.5/24 dev usb0")
    told = plant.run("portcall restore")
    assert told.code == 0
    assert "others changed it meanwhile: before 10.61.20.5/24, now no address" in told.out
    # What others added behind the match's address in its subnet is not to go with it.
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("ip addr add 10.61.20.77/24 dev usb0")
    plant.run("ip route add 192.0.2.0/24 via 10.61.20.78 dev usb0")
    told = plant.run("portcall restore")
    assert "now 10.61.20.77/24" in told.out
    assert "inet 10.61.20.77/24" in plant.run("ip -4 addr show usb0").out
    assert "192.0.2.0/24 via 10.61.20.78" in plant.run("ip route").out


# kill -9 at any moment.

BEFORE = (
    f"ip addr add 203.0.113.129/25 brd + dev usb0 {otherwise('label usb0:panel', '')}",
    "ip addr add 10.61.20.7/24 dev usb0",
    # Windows asks again for what it has by DHCP, so that match refuses to take that off.
    f"ip addr add 10.61.20.8/24 dev usb0 {otherwise('valid_lft 9000 preferred_lft 8000', '')}",
    "ip addr add 198.51.100.240/30 dev usb0",
    "ip route add 192.0.2.0/24 via 203.0.113.130 dev usb0 metric 50",
)

WAYS = {
    "add": ("match 203.0.113.9 --adapter usb0 --no-probe",),
    "replace": ("match dryer-plc --adapter usb0 --no-probe --replace",),
    "several": (
        "match 203.0.113.9 --adapter usb0 --no-probe",
        "match dryer-plc --adapter usb0 --no-probe --replace",
        "match 203.0.113.201 --address 203.0.113.202/29 --adapter usb0 --no-probe",
    ),
}


TRACED = "fsync,rename,sendto"
"""What a match does step by step: it writes down (fsync, rename), then asks the kernel (sendto)."""


def steps_of(plant, words):
    """Each step of a match from when it writes down what it had: a call, and its number."""
    if IS_WANTED:
        plant.run("rm -f trace")
        assert plant.run(f"env PORTCALL_WINDOWS_STEPS=trace {_program()} {words}").code == 0
        calls = plant.run("cat trace").out.splitlines()
        return list(enumerate(calls, 1))[calls.index("fsync") :]
    traced = plant.run(f"strace -f --seccomp-bpf -o trace -e trace={TRACED} {_program()} {words}")
    assert traced.code == 0, traced.err
    calls = re.findall(r"^\d+ +(\w+)\(", plant.run("cat trace").out, re.MULTILINE)
    numbered = [(call, calls[: n + 1].count(call)) for n, call in enumerate(calls)]
    return numbered[calls.index("fsync") :]


ONCE = ("portcall note dryer-plc first", "portcall plan check")
"""What the first line makes that writes into a site: each match has the same steps then."""


def killed_at(plant, step, words):
    """Type a match that is killed at one of its steps."""
    call, number = step
    if IS_WANTED:
        return plant.run(f"env PORTCALL_WINDOWS_KILLED_AT={call} {_program()} {words}")
    return plant.run(
        f"strace -f -o trace -e trace={call} -e inject={call}:signal=KILL:when={number} "
        f"{_program()} {words}"
    )


@pytest.mark.windows
@pytest.mark.parametrize(("way", "changes"), [("add", 1), ("replace", 5), ("several", 1)])
def test_a_match_killed_at_each_of_its_steps_is_put_back_exactly(plant, way, changes):
    """Each step in turn is the one that kills it: the kernel answers that call with death."""
    need("strace")
    for line in (*BEFORE, *ONCE):
        assert plant.run(line).code == 0
    before = state(plant)
    *first, last = WAYS[way]

    def begin():
        for words in first:
            assert plant.run(f"portcall {words}").code == 0

    begin()
    steps = steps_of(plant, last)
    # The folder's entry is the file system's own affair on Windows.
    assert len(steps) >= otherwise(3, 2) + changes, steps
    assert plant.run("portcall restore").code == 0
    for step in some(steps[: 3 + changes + 2], 4):
        begin()
        killed = killed_at(plant, step, last)
        assert killed.code == KILLED, (step, killed)
        restored = plant.run("portcall restore")
        assert restored.code == 0, restored.out + restored.err
        assert state(plant) == before, step


@pytest.mark.long
def test_a_match_killed_at_each_netlink_send_and_typed_again_is_put_back_exactly(plant):
    """With a route, a leased address, and another adapter that is matched, too."""
    need("strace")
    for line in BEFORE:
        assert plant.run(line).code == 0
    before = state(plant)
    other = "portcall match 198.51.100.130 --address 198.51.100.131/29 --adapter lan0 --no-probe"
    (words,) = WAYS["replace"]

    def begin():
        assert plant.run(f"{other} --replace").code == 0

    begin()
    steps = [step for step in steps_of(plant, words) if step[0] == "sendto"]
    assert plant.run("portcall restore").code == 0
    assert len(steps) >= 5
    for step in some(steps, 4):
        begin()
        assert killed_at(plant, step, words).code == KILLED, step
        assert plant.run(f"portcall {words}").code == 0, step
        told = plant.run("portcall restore")
        assert told.code == 0, (step, told.out + told.err)
        assert state(plant) == before, step


def _program():
    return " ".join(PORTCALL)


@pytest.mark.windows
def test_a_match_that_was_killed_and_is_typed_again_still_knows_what_was_there(plant):
    need("strace")
    for line in (*BEFORE, *ONCE):
        assert plant.run(line).code == 0
    before = state(plant)
    (words,) = WAYS["replace"]
    steps = steps_of(plant, words)
    assert plant.run("portcall restore").code == 0
    # Killed when all of them are taken off, and the match's own is not there yet.
    last = [step for step in steps if step[1] == "add"] if IS_WANTED else steps[3 + 4 :]
    assert killed_at(plant, last[0], words).code == KILLED
    assert plant.run("ip -4 -o addr show usb0").out == ""
    assert plant.run(f"portcall {words}").code == 0
    assert plant.run("portcall restore").code == 0
    assert state(plant) == before


@pytest.mark.parametrize("name", ["TERM", "HUP"])
def test_every_signal_that_can_be_caught_ends_a_visit_like_ctrl_c(plant, name):
    """At the call that adds the visit's address, and at those that follow."""
    need("strace")
    # Whoever runs the tests may ignore the signal (nohup does), and that would be kept to.
    line = f"env --default-signal={name} {_program()} assign --match --for 20"
    visit = plant.start(f"strace -f -o trace -e trace=sendto {line}", signalled=True)
    plant.until(visit, "serving")
    assert plant.finish(visit, signal.SIGINT).code != 0
    calls = plant.run("cat trace").out.splitlines()
    added = next(n for n, call in enumerate(calls, 1) if "RTM_NEWADDR" in call)
    for number in range(added, added + 4):
        inject = f"inject=sendto:signal={name}:when={number}"
        ended = plant.run(f"strace -f -o trace -e trace=sendto -e {inject} {line}")
        assert ended.code == 130, (number, ended)
        assert "10.61.20" not in plant.run("ip -4 addr show usb0").out, number
        assert plant.run("portcall restore --show").out == "nothing is open\n", number


def test_restore_goes_as_far_as_it_can_and_says_what_is_left_and_why(plant):
    for line in BEFORE:
        assert plant.run(line).code == 0
    before = state(plant)
    plant.run("portcall match 198.51.100.130 --address 198.51.100.131/29 --adapter lan0 --no-probe")
    (words,) = WAYS["replace"]
    assert plant.run(f"portcall {words}").code == 0
    # Somebody reached a network through the match: that goes with it.
    plant.run("ip route add 198.18.0.0/24 via 10.61.20.201 dev usb0")
    plant.run("ip link set usb0 down")
    told = plant.run("portcall restore")
    assert told.code == 1
    assert "usb0: 10.61.20.200/24 removed; not put back yet: the route to 192.0.2.0/24" in told.out
    assert "Switch it on (ip link set usb0 up), and run restore again" in told.out
    assert "lan0: 198.51.100.131/29 removed" in told.out
    assert "Traceback" not in told.err
    # The addresses are there; open is what is left, and no more.
    assert len(re.findall("inet ", plant.run("ip -4 addr show usb0").out)) == 4
    (still,) = plant.run("portcall restore --show --json").json["open"]
    assert (still["adapter"], still["taken_off"]) == ("usb0", True)
    plant.run("ip link set usb0 up")
    assert plant.run("portcall restore").code == 0
    assert state(plant) == before
    assert plant.run("portcall restore --show").out == "nothing is open\n"


def test_what_a_match_or_an_ended_lease_had_reached_alone_goes_with_it_and_is_said(plant):
    plant.run("ip addr add 203.0.113.9/25 dev usb0 valid_lft 4 preferred_lft 4")
    plant.run("ip route add 192.0.2.0/24 via 203.0.113.10 dev usb0")
    assert plant.run("portcall match dryer-plc --no-probe --replace --adapter usb0").code == 0
    plant.run("ip route add 198.18.0.0/24 via 10.61.20.201 dev usb0")
    time.sleep(4)  # The lease ends meanwhile.
    told = plant.run("portcall restore")
    assert told.code == 0, told.out
    assert "and with it the route to 198.18.0.0/24 via 10.61.20.201" in told.out
    assert "the lease of 203.0.113.9/25 has ended meanwhile" in told.out
    assert plant.run("portcall restore --show").out == "nothing is open\n"


@pytest.mark.windows
def test_a_damaged_entry_is_put_back_as_far_as_it_can_be_read_and_blocks_no_other(plant):
    plant.run("ip addr add 203.0.113.9/25 dev usb0")
    plant.run("portcall match 198.51.100.130 --address 198.51.100.131/29 --adapter lan0 --no-probe")
    assert plant.run("portcall match dryer-plc --no-probe --replace --adapter usb0").code == 0
    damage = (
        "import json, glob, os\n"
        "(name,) = glob.glob(os.environ['PORTCALL_STATE'] + '/open-matches/usb0*')\n"
        "entry = json.load(open(name))\n"
        "entry['taken_off'].append('20 no hex')\n"
        "entry['at'] = entry['at'][:19]\n"
        "entry['before'].append('no address')\n"
        "json.dump(entry, open(name, 'w'))\n"
    )
    plant.write("damage.py", damage)
    assert plant.run("python3 damage.py").code == 0
    told = plant.run("portcall restore")
    assert (told.code, told.err.count("Traceback")) == (1, 0)
    assert "not put back yet: what was saved as '20 no hex': it is damaged" in told.out
    assert re.search(r"Delete \S+[/\\]open-matches[/\\]usb0\S+ when usb0 is right", told.out)
    assert "lan0: 198.51.100.131/29 removed" in told.out
    assert "inet 203.0.113.9/25" in plant.run("ip -4 addr show usb0").out


@pytest.mark.windows
def test_replace_takes_the_others_off_and_several_matches_stack(plant):
    for line in BEFORE:
        plant.run(line)
    before = state(plant)
    told = plant.run("portcall match 203.0.113.9 --adapter usb0 --no-probe --replace")
    assert told.code == 0
    taken_off = told.out.split("taken off until restore: ")[1].strip().split(", ")
    assert set(taken_off) == {
        "203.0.113.129/25",
        "10.61.20.7/24",
        "10.61.20.8/24",
        "198.51.100.240/30",
    }
    assert re.findall(r"inet (\S+)", plant.run("ip -4 addr show usb0").out) == ["203.0.113.254/24"]
    plant.run("portcall match dryer-plc --adapter usb0 --no-probe")
    shown = plant.run("portcall restore --show --json").json["open"]
    assert [(e["address"], e["taken_off"]) for e in shown] == [
        ("203.0.113.254/24", True),
        ("10.61.20.200/24", False),
    ]
    assert plant.run("portcall restore").code == 0
    assert state(plant) == before
    assert plant.run("portcall restore --show").out == "nothing is open\n"


def test_restore_finds_an_adapter_that_came_back_under_another_name(plant):
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("ip link set usb0 down")
    plant.run("ip link set usb0 name usb7")
    plant.run("ip link set usb7 up")
    assert "usb7: 10.61.20.200/24 removed" in plant.run("portcall restore").out
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("ip link set usb7 down")
    plant.run("ip link set usb7 address 02:00:00:00:00:77")
    gone = plant.run("portcall restore")
    assert gone.code == 1
    assert "usb7 (02-1A-40-7C-00-06) is not here" in gone.out
    assert "matched, and its adapter is not here" in plant.run("portcall adapters").err


@pytest.mark.windows
def test_match_by_dhcp_takes_what_the_mill_cell_hands_out(plant):
    assert "nobody on usb0 hands out addresses" in plant.run("portcall match --dhcp").err
    plant.run("portcall plant plug usb0 --wire cell")
    dry = plant.run("portcall match --dhcp --dry-run")
    assert "would take 203.0.113.202 from 203.0.113.201" in dry.out
    taken = plant.run("portcall match --dhcp --json")
    assert taken.code == 0
    assert (taken.json["address"], taken.json["prefix"]) == ("203.0.113.202", 29)
    assert (taken.json["in_force"], taken.json["lease_seconds"]) == (True, 600)
    assert "offered: 203.0.113.202/29 by 203.0.113.201 (02-5A-1D-33-01-C4)" in taken.err
    assert "the lease ends at" in taken.err
    own = plant.run("portcall adapters --json").json["adapters"][1]["addresses"][0]
    assert 500 < own["seconds_left"] <= 600
    assert plant.run("portcall reach 203.0.113.201 --count 1").code == 0
    assert plant.run("portcall restore").code == 0
    assert plant.run("ip -4 -o addr show usb0").out == ""


WIDE = """
site = "site"
[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"
[[devices]]
name = "wide"
speaks = ["cip"]
wire = "plant"
mac = "02-5A-1D-00-00-01"
address = "10.61.20.10/16"
[[devices]]
name = "mute"
wire = "plant"
mac = "02-5A-1D-00-00-02"
address = "203.0.113.10/16"
"""


def test_a_mask_nobody_gave_is_read_from_the_device_or_said_to_be_an_assumption(tmp_path):
    (tmp_path / "site").mkdir()
    (tmp_path / "wide.toml").write_text(WIDE)
    with Plant(tmp_path / "wide.toml") as plant:
        # An adapter that was pulled out had the same address: its match stays open all the while.
        plant.run("ip link add gone0 up type veth peer name gone1")
        plant.run("ip link set gone1 up")
        line = "portcall match 10.61.20.10 --address 10.61.20.254/24 --adapter gone0 --no-probe"
        assert "gone0 now has 10.61.20.254/24" in plant.run(line).out
        plant.run("ip link del gone0")
        gone = plant.run("portcall match 10.61.20.10")
        assert gone.code == 3
        assert "(using gone0, which is matched until: portcall restore)" in gone.err
        told = plant.run("portcall match 10.61.20.10 --adapter usb0")
        assert told.code == 0
        assert "usb0 now has 10.61.20.254/16" in told.out
        assert "the mask /16 is the device's own" in told.out
        assert re.findall(r"inet (\S+)", plant.run("ip -4 addr").out)[1:] == ["10.61.20.254/16"]
        assumed = plant.run("portcall match 203.0.113.10 --adapter usb0")
        assert "usb0 now has 203.0.113.254/24" in assumed.out
        assert "the mask /24 is an assumption: nobody gave one" in assumed.out
        assert "is not here; what it was given went with it" in plant.run("portcall restore").out
        assert plant.run("ip -4 -o addr show usb0").out == ""


def test_a_full_subnet_has_none_left_and_says_so(plant):
    plant.write("plan.csv", "name,address,mask\nx,203.0.113.1,30\ny,203.0.113.2,30\n")
    full = plant.run("portcall match x --no-probe")
    assert full.code == 3
    assert "203.0.113.0/30: no address is left for this computer" in full.err
    assert plant.run("portcall match x --dry-run").code == 1


def test_dry_run_needs_no_privilege_and_changes_nothing(plant):
    plant.run("ip addr add 203.0.113.5/24 dev usb0")
    before = state(plant)
    bare = "setpriv --bounding-set=-all --inh-caps=-all"
    would = plant.run(f"{bare} {_program()} match dryer-plc --dry-run --replace --json")
    assert would.code == 0
    assert (
        would.json.items()
        >= {
            "adapter": "usb0",
            "would_try_first": "10.61.20.200/24",
            "prefix_from": "plan",
            "would_take_off": ["203.0.113.5/24"],
        }.items()
    )
    refused = plant.run(f"{bare} {_program()} match dryer-plc")
    assert refused.code == 3
    assert re.search(r"run: sudo \S+ -m portcall match dryer-plc", refused.err)
    assert "portcall match dryer-plc --dry-run shows what it would do" in refused.err
    assert state(plant) == before


def test_an_adapter_of_a_network_manager_is_not_fought_over(plant):
    plant.run("mount -t tmpfs none /run")
    index = json.loads(plant.run("ip -j link show usb0").out)[0]["ifindex"]
    plant.run("mkdir -p /run/NetworkManager/devices")
    plant.run(
        f"sh -c 'printf \"[device]\\nmanaged=true\\n\" > /run/NetworkManager/devices/{index}'"
    )
    refused = plant.run("portcall match dryer-plc --no-probe --replace")
    assert refused.code == 3
    assert "usb0 is run by NetworkManager, which would put its addresses back" in refused.err
    added = plant.run("portcall match dryer-plc --no-probe")
    assert added.code == 0
    assert "usb0 is run by NetworkManager; when that reconnects it, match again" in added.err


# Watching and warnings.


@pytest.mark.windows
def test_a_pulled_plug_is_named_within_a_second_and_flapping_is_named(plant):
    kernel = plant.start("ip -ts monitor link")
    watch = plant.start("portcall adapters --watch --json", signalled=True)
    plant.until(watch, "watching; pull a plug")
    for n in (1, 2, 3):
        plant.run("portcall plant unplug usb0")
        plant.until(watch, '"link lost"', n)
        plant.run("portcall plant plug usb0")
        plant.until(watch, '"link back"', n)
    plant.run("ip addr add 10.61.20.9/24 dev usb0")
    plant.until(watch, '"address added"')
    ended = plant.finish(watch, signal.SIGINT)
    assert ended.code == 130
    events = ended.json_lines
    assert [event["event"] for event in events] == [
        *["link lost", "link back"] * 3,
        "flapping",
        "address added",
    ]
    assert {event["adapter"] for event in events} == {"usb0"}
    assert f"{otherwise('10 Gbit/s; ', '')}try another cable" in events[6]["detail"]
    said = re.findall(
        r"\[\S+T(\S+)\] \d+: usb0@\S+ <(\S+)>", plant.finish(kernel, signal.SIGINT).out
    )
    at_kernel = [_seconds(when) for when, _ in said][:6]
    at_tool = [_seconds(event["at"][11:23]) for event in events if event["event"] in _LINKS]
    assert len(at_kernel) == len(at_tool) == 6
    # Both programs stamp what the kernel tells when they read it.
    assert all(abs(b - a) < 1 for a, b in zip(at_kernel, at_tool, strict=True))


_LINKS = ("link lost", "link back")


def _seconds(clock):
    hours, minutes, seconds = clock.split(":")
    return int(hours) * 3600 + int(minutes) * 60 + float(seconds)


def test_what_is_in_the_way_is_said_with_what_to_do(plant):
    plant.run("ip addr add 198.51.100.9/25 dev usb0")
    plant.run("sysctl -w net.ipv4.conf.usb0.rp_filter=1")
    tunnel = plant.run("ip tuntap add mode tun name tun0").code == 0
    if tunnel:
        plant.run("ip addr add 192.0.2.5/32 dev tun0")
        plant.run("ip link set tun0 up")
        plant.run("ip route add 10.61.20.0/24 dev tun0")
    shown = plant.run(
        "env http_proxy=http://proxy.example:3128 portcall adapters".replace("portcall", _program())
    ).out
    assert "usb0: 198.51.100.0/25 is on lan0 too: packets may leave by the wrong one" in shown
    assert "usb0: strict reverse-path filter" in shown
    assert "this computer: http_proxy sends web programs to a proxy" in shown
    if tunnel:
        assert "tun0: this tunnel carries what is meant for 10.61.20.0/24" in shown


def test_a_firewall_on_this_computer_is_told_from_silence(plant):
    need("nft")
    plant.run("portcall match dryer-plc --no-probe")
    plant.write(
        "out.nft",
        "table ip t { chain o { type filter hook output priority 0; "
        "udp dport 44818 drop; icmp type echo-request drop; }; }",
    )
    assert plant.run("nft -f out.nft").code == 0
    found = plant.run("portcall find 10.61.20.10 --json").json
    (why,) = found["not_run"]
    assert why["method"] == "cip"
    assert why["reason"].startswith("this computer's firewall forbids it")
    silent = plant.run("portcall reach dryer-plc --count 1 --json").json["targets"][0]
    assert silent["reason"] == "this computer's firewall forbids it"
    plant.run("nft flush ruleset")
    plant.write(
        "in.nft",
        "table ip t { chain i { type filter hook input priority 0; udp sport 44818 drop; }; }",
    )
    plant.run("nft -f in.nft")
    (why,) = plant.run("portcall find 10.61.20.10 --json").json["not_run"]
    assert "this computer's firewall drops the answers of 10.61.20.10" in why["reason"]


def test_a_match_is_never_in_force_where_the_kernel_sends_to_everybody(plant):
    """In a subnet of two the other address is a host (RFC 3021), in a /24 .255 is none."""
    assert plant.run("portcall match 203.0.113.4/31 --no-probe").code == 0
    assert "brd" not in plant.run("ip -4 addr show usb0").out
    assert plant.run("ip route get 203.0.113.4").out.startswith("203.0.113.4 dev usb0")
    edge = plant.run("portcall match 10.61.20.255 --no-probe")
    assert edge.code == 2
    assert "10.61.20.255: is the broadcast address of 10.61.20.0/24" in edge.err
    plant.run("ip addr add 10.61.21.100/25 dev usb0 brd 10.61.21.9")
    told = plant.run("portcall match 10.61.21.9 --address 10.61.21.100/25")
    assert told.code == 1
    assert "10.61.21.100/25: the operating system sends no packet to 10.61.21.9" in told.out


def test_routes_of_other_tables_and_with_several_ways_are_put_back_too(plant):
    many = " ".join(f"nexthop via 192.0.2.{number}" for number in range(11, 41))
    for line in (
        "ip addr add 192.0.2.5/24 dev usb0",
        "ip route add 192.88.99.0/24 via 192.0.2.1 table 100",
        "ip route add 198.18.0.0/24 nexthop via 192.0.2.1 nexthop via 192.0.2.2",
        "ip route add 198.18.9.0/24 nexthop via 192.0.2.1 nexthop via 198.51.100.1",
        f"ip route add 198.18.10.0/24 {many}",
    ):
        assert plant.run(line).code == 0
    before = plant.run("ip route show table all").out
    assert plant.run("portcall match 10.61.20.0/24 --replace --no-probe --adapter usb0").code == 0
    assert plant.run("ip route show table all").out != before
    restored = plant.run("portcall restore")
    assert plant.run("ip route show table all").out == before
    assert (restored.code, "only it had reached" in restored.out) == (0, False)
