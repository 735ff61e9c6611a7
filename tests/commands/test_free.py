"""``portcall free``: the numbers that nobody has, said so only as far as that was heard."""

import re


def test_the_next_numbers_are_free_and_the_line_that_is_advised_plans_one(plant):
    # A computer whose kernel answers for its address, and that no row of the plan has.
    given = plant.on("spare-1", "ip addr add 10.61.20.3/24 dev eth0")
    assert given.code == 0, given.err
    plant.run("portcall plan add hood-fan 10.61.20.4 --gateway 10.61.20.2")
    found = plant.run("portcall free 3 --json")
    assert (found.code, found.json["free"]) == (0, ["10.61.20.5", "10.61.20.6", "10.61.20.7"])
    assert [each["address"] for each in found.json["taken"]] == ["10.61.20.1", "10.61.20.3"]
    typed = plant.run("portcall free 10.61.20.2-10.61.20.5")
    assert (typed.code, typed.out) == (1, "10.61.20.5\n")
    line = re.search(r"portcall plan add NAME \S+", typed.err)[0]
    assert plant.run(line.replace("NAME", "roof-fan")).code == 0
    again = plant.run("portcall free 10.61.20.2-10.61.20.5")
    assert (again.code, again.out, "none is free of 10.61.20.2-10.61.20.5" in again.err) == (
        1,
        "",
        True,
    )
    # The computer's own addresses, and the one that is kept for it, are nobody else's.
    around = plant.run("portcall free 10.61.20.199-10.61.20.201 2 --json")
    assert around.json["free"] == ["10.61.20.199", "10.61.20.201"]


def test_one_that_answers_for_everything_is_not_asked_for_ever(plant):
    # The kernel of a computer answers ARP for all that is local to it.
    assert plant.on("spare-1", "ip route add local 10.70.0.0/16 dev lo").code == 0
    ended = plant.run("portcall free 10.70.0.0/16 1 --json")
    told = ended.json
    assert (ended.code, told["free"], told["whole"]) == (1, [], False)
    assert len(told["taken"]) == told["probed"]
    assert 1024 <= told["probed"] < 1100


def test_without_a_link_nobody_is_said_to_be_away(plant):
    asking = plant.start("portcall free 10.61.20.0/24")
    plant.until(asking, "asking on usb0")
    plant.run("portcall plant unplug usb0")
    ended = plant.finish(asking)
    assert (ended.code, ended.out) == (3, "")
    assert "usb0 lost its link meanwhile" in ended.err
    for words, said in (
        ("65", "65: how many is a number from 1 to 64"),
        ("1 2", "1 2: is more than one subnet and one count"),
        ("a", "a: has 1 octet; an IPv4 address has 4"),
    ):
        refused = plant.run(f"portcall free {words} --adapter usb0")
        assert (refused.code, said in refused.err) == (2, True), refused.err
