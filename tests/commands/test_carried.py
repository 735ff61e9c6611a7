"""``catalog add --from``: what a device carries of itself, in the plant, and what is not taken."""

import hashlib
import json
import subprocess
import sys
from pathlib import Path

import pytest
from inside import Plant

import portcall.plant
from conftest import need_stacks
from portcall.core.catalog.catalog import Product
from portcall.core.catalog.eds import parse_eds
from portcall.plant.scenario import shipped_scenario

SHIPPED = Path(portcall.plant.__file__).parent / "scenarios" / "skerry-40.eds"
FILES = Path(__file__).parents[1] / "stacks" / "files.py"

READ = """
import hashlib, sys
from pycomm3 import CIPDriver
from pycomm3.cip import ClassCode, FileObjectInstances, FileObjectServices
from pycomm3.cip import FileObjectInstanceAttributes as has, Services, UDINT, USINT, Struct
device = CIPDriver(sys.argv[1])
device.open()
def ask(service, attribute=b"", data=b"", kind=None):
    said = device.generic_message(service, ClassCode.file_object,
        FileObjectInstances.eds_file_and_icon, attribute, data, kind, connected=False)
    assert said.error is None, said.error
    return said.value
single = Services.get_attribute_single
size = ask(single, has.file_size.attr_id, kind=has.file_size.data_type)
check = ask(single, has.file_checksum.attr_id, kind=has.file_checksum.data_type)
started = ask(FileObjectServices.initiate_upload, data=USINT.encode(100),
    kind=Struct(UDINT("size"), USINT("piece")))
assert started == {"size": size, "piece": 100}, started
file, number, kind = b"", 0, 0
while kind not in (2, 4):
    piece = ask(FileObjectServices.upload_transfer, data=USINT.encode(number))
    assert piece[0] == number
    number, kind, file = number + 1, piece[1], file + piece[2:]
assert (sum(file[:size]) + check) % 65536 == 0 == len(file) - size - 2
print(hashlib.sha256(file[:size]).hexdigest())
"""


def test_a_device_is_asked_for_its_own_description_and_it_is_kept(plant):
    plant.run("portcall match 10.61.20.0/24")
    before = plant.run("cat catalog/makers.toml plan.csv site.toml").out
    told = plant.run("portcall catalog add --from dryer-plc --capture carried.pcapng")
    assert told.code == 0
    assert "dryer-plc: sends 1,501 octets, about " in told.err
    kept = "catalog/cip-64101-40.toml"
    named = "dryer-plc: CIP maker 64101, product 40: Sandlark Controls, Skerry 40 controller; kept"
    assert told.out.startswith(named)
    assert told.out.strip().endswith(kept)
    # The same line again changes nothing, and by its address and MAC it is the same device.
    held = plant.run(f"cat {kept}").out
    for device in ("dryer-plc", "10.61.20.10", "02-5A-1D-20-7F-10"):
        again = plant.run(f"portcall catalog add --from {device} --json")
        assert again.code == 0
        assert again.json["added"][0]["kept"].endswith(kept)
    assert plant.run(f"tail -n +2 {kept}").out == held.split("\n", 1)[1]
    assert plant.run("cat catalog/makers.toml plan.csv site.toml").out == before
    products = plant.run("portcall catalog list --json").json["entries"]
    assert {"what": "product", "protocol": "cip", "code": "64101, 40"}.items() <= next(
        each.items() for each in products if each["what"] == "product"
    )


def test_who_carries_none_or_is_not_there_is_told_of_and_nothing_is_kept(quiet_plant):
    quiet_plant.run("portcall match 10.61.20.0/24")
    line = "portcall catalog add --from"
    for words, code, reason in (
        (f"{line} 10.61.20.1", 1, "10.61.20.1: takes no connection at its CIP port: portcall why"),
        (f"{line} 10.61.20.66", 1, "10.61.20.66: nothing answers at 10.61.20.66"),
        (f"{line} fan-drive-1", 1, "fan-drive-1: 02-77-B1-4C-09-21 does not answer at"),
        (f"{line} dryer", 2, "dryer: is no address, no MAC, and not in the plan"),
        ("portcall catalog add x.eds --capture y", 2, "--capture go with --from DEVICE"),
        (f"{line} dryer-plc x.eds", 2, "give either FILE, or --from DEVICE"),
    ):
        told = quiet_plant.run(words)
        assert (told.code, told.out) == (code, "")
        assert reason in told.err
    assert quiet_plant.run("ls catalog").out == "makers.toml\n"


def test_a_client_that_others_wrote_reads_the_same_file(quiet_plant):
    """The transfer's own layout is known to this tool and to its simulated device alone; class,
    instance, services, attributes and their types are that client's."""
    need_stacks("pycomm3")
    quiet_plant.run("portcall match 10.61.20.0/24")
    quiet_plant.write("read.py", READ)
    read = quiet_plant.run(f"{sys.executable} read.py 10.61.20.10")
    assert read.code == 0, read.err
    (plc,) = (each for each in shipped_scenario().devices if each.description)
    assert read.out.strip() == hashlib.sha256(plc.description).hexdigest()


OTHERS = """
import json, logging, sys
from eds_pie.eds_pie import Parser
logging.disable()
eds = Parser(sys.stdin.read()).parse()
asked = ("VendCode", "VendName", "ProdCode", "ProdName", "ProdTypeStr")
print(json.dumps([eds.get_value("Device", each) for each in asked]))
"""

WINDING = """$ "a drive" [Device]
[File] DescText = "x; $ y", "[Device]";
[Device]   $ who it is; what it is
  VendCode = 64102; VendName = "Whimbrel "
      "Drives";
  ProdType = 2; ProdTypeStr = "AC drive"; ProdCode = 0x2C0; $ 704
  ProdName =
      "Gale 7 drive, "
      "4 kW"; $ in "two" parts
  Catalog = "a";
"""


@pytest.mark.parametrize("text", [SHIPPED.read_text(), WINDING], ids=["shipped", "winding"])
def test_a_reader_that_others_wrote_reads_the_same_out_of_an_eds(text):
    need_stacks("eds_pie")
    line = [sys.executable, "-c", OTHERS]
    told = subprocess.run(line, input=text, capture_output=True, text=True, check=True)
    vendor, maker, code, name, kind = json.loads(told.stdout)
    ((codes, product),) = (catalog := parse_eds(text, "theirs.eds")).products.items()
    assert (codes.maker, codes.product) == (int(vendor, 0), int(code, 0))
    assert (catalog.maker(codes), product) == (maker, Product(name, kind))


BARE = """
site = "site"
[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"
address = "10.61.20.200/24"
[[devices]]
name = "stranger"
wire = "plant"
mac = "02-99-00-00-00-01"
address = "10.61.20.10/24"
"""

WATCHED = (
    "import resource, subprocess, sys, json\n"
    "done = subprocess.run(sys.argv[1:], capture_output=True, text=True)\n"
    "used = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss\n"
    "print(json.dumps([done.returncode, done.stdout, done.stderr, used]))\n"
)


@pytest.mark.parametrize(
    ("how", "reason"),
    [
        ("endless", "sends more than the 80 octets that it told"),
        ("size", "said that it has 180 octets, and its last came after 80"),
        ("checksum", "octets whose checksum is"),
        ("flood", "its connection ended before its description was here"),
        ("bomb", "more than 4,000,000 octets long when unpacked"),
        ("other", "says that it is CIP maker 64101, product 40, and carries the description of"),
        ("noise", "is no EDS: it has no [Device] section"),
    ],
)
def test_what_means_no_good_is_refused_within_bounds(tmp_path, how, reason):
    scenario = tmp_path / "plant.toml"
    scenario.write_text(BARE)
    (tmp_path / "site").mkdir()
    (tmp_path / "site/site.toml").write_text("pace_to_one = 500\n")
    with Plant(scenario) as plant:
        plant.write("watched.py", WATCHED)
        serving = plant.start(
            f"portcall plant on stranger -- {sys.executable} {FILES} {how} 10.61.20.10",
            signalled=True,
        )
        plant.until_true(
            "portcall plant on stranger -- grep -qi :AF12.*0A /proc/net/tcp", timeout=30
        )
        line = f"{sys.executable} -m portcall catalog add --from 10.61.20.10"
        told = plant.run(f"{sys.executable} watched.py {line}", timeout=50)
        code, out, err, used = json.loads(told.out)
        plain = plant.run(f"{sys.executable} watched.py {line.replace('10.61.20.10', 'x')}")
        plant.finish(serving, by=15)
        assert (code, out) == (1, "")
        assert reason in err
        assert "Traceback" not in err
        # Kilobytes that it took more than a line that asks nobody.
        assert used - json.loads(plain.out)[3] < 40_000
        assert plant.run("ls").out.split() == ["site.toml", "watched.py"]
