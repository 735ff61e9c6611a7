"""``portcall plant``."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from portcall.cli.main import YES
from portcall.cli.options import json_option
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.table import Columns, cell, left_out_sentence, print_rows, wide_option
from portcall.plant import require_namespaces
from portcall.site.matches import STATE_VARIABLE

if TYPE_CHECKING:
    from portcall.plant import control

_scenario_option = click.option(
    "--scenario",
    "file",
    metavar="FILE",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="A plant of your own; the format: portcall help scenarios.",
)

_PROXY = "198.51.100.1:3128"

_RUNS_PROGRAMS = {"ignore_unknown_options": True, "allow_interspersed_args": False}


@click.group("plant")
def plant_command() -> None:
    """The practice plant: simulated devices on a network of their own, inside this computer.

    Nothing of the computer's own network is touched, and nothing is left behind.
    """


@plant_command.command("run", context_settings=_RUNS_PROGRAMS)
@_scenario_option
@click.argument("command", nargs=-1, required=True, type=click.UNPROCESSED, metavar="-- COMMAND…")
def run_command(file: Path | None, command: tuple[str, ...]) -> int:
    """Bring the plant up, run COMMAND on its workstation, take it down.

    Ends with COMMAND's exit code. $PRACTICE_SITE is a site folder to practise in.

    \b
    portcall plant run -- portcall find
    portcall plant run --scenario line.toml -- sh practice.sh
    """
    return _run(file, command)


@plant_command.command("shell")
@_scenario_option
def shell_command(file: Path | None) -> int:
    """A shell on the plant's workstation, in a practice site; "exit" takes the plant down.

    \b
    portcall plant shell
    portcall plant shell --scenario line.toml
    """
    return _run(file, (os.environ.get("SHELL", "/bin/sh"),), is_shell=True)


@plant_command.command("join", context_settings=_RUNS_PROGRAMS)
@click.option("--process", type=int, metavar="NUMBER", help="Which one, when several are up.")
@click.argument("command", nargs=-1, type=click.UNPROCESSED, metavar="[-- COMMAND…]")
def join_command(process: int | None, command: tuple[str, ...]) -> int:
    """A shell, or COMMAND, in a practice plant that another terminal has up.

    \b
    portcall plant join
    portcall plant join -- portcall plant unplug dryer-plc
    """
    require_namespaces()
    from portcall.plant.join import join, plant_to_join

    return join(plant_to_join(process), command or (os.environ.get("SHELL", "/bin/sh"),))


@plant_command.command("list")
@click.option("--faults", "with_faults", is_flag=True, help="Tell what is broken on purpose, too.")
@wide_option
@json_option
def list_command(with_faults: bool, wide: bool) -> int:
    """Inside the plant: its devices as they really are.

    \b
    portcall plant list
    portcall plant list --faults
    """
    require_namespaces()
    from portcall.plant import control

    states = control.device_states()
    broken = control.faults() if with_faults else []
    if wants_json():
        entries = [{name: getattr(s, name) for name in s.__slots__} for s in states]
        faults = [{name: getattr(f, name) for name in f.__slots__} for f in broken]
        print_json({"devices": entries} | ({"faults": faults} if with_faults else {}))
        return YES
    columns = Columns("name", "kind", "mac", "address", "cable", "state", drops=("cable", "kind"))
    left_out = print_rows(columns, states, _cells, wide=wide)
    if left_out:
        note(left_out_sentence(left_out))
    for fault in broken:
        click.echo(f"broken: {fault}; portcall plant mend {fault.on} {fault.kind}")
    if with_faults and not broken:
        click.echo("nothing is broken on purpose")
    return YES


def _cells(state: control.DeviceState) -> Sequence[Text]:
    return (
        cell(state.name, "bold"),
        cell(state.kind),
        cell(state.mac),
        cell(state.address),
        cell("in" if state.plugged else "out"),
        cell(state.state),
    )


@plant_command.command("fault")
@click.argument("on", metavar="NAME")
@click.argument("kind", metavar="FAULT")
@click.argument("how", default="", metavar="[HOW]")
def fault_command(on: str, kind: str, how: str) -> int:
    """Inside the plant: break something, to practise with; for a list: portcall help faults.

    NAME is a device, an adapter of the workstation, or "workstation". A fault is called as the
    cause that "portcall why" names.

    \b
    portcall plant fault dryer-plc lossy 20%
    portcall plant fault usb0 other-subnet
    """
    require_namespaces()
    from portcall.plant import control

    if kind == "proxy":
        # A proxy is set in the shell that the programs are called from.
        click.echo(f"export http_proxy=http://{_PROXY} https_proxy=http://{_PROXY}")
        click.echo('type that line, or: eval "$(portcall plant fault workstation proxy)"', err=True)
        return YES
    control.make_fault(on, kind, how)
    click.echo(f"made: {on} {kind} {how}".rstrip())
    return YES


@plant_command.command("mend")
@click.argument("on", default=None, required=False, metavar="[NAME]")
@click.argument("kind", default=None, required=False, metavar="[FAULT]")
def mend_command(on: str | None, kind: str | None) -> int:
    """Inside the plant: put right all that "plant fault" broke, or some of it.

    \b
    portcall plant mend
    portcall plant mend dryer-plc lossy
    """
    require_namespaces()
    from portcall.plant import control

    if kind == "proxy":
        click.echo("unset http_proxy https_proxy")
        return YES
    for fault in control.mend(on, kind):
        click.echo(f"mended: {fault}")
    return YES


@plant_command.command("power-cycle")
@click.argument("names", nargs=-1, required=True, metavar="NAME…")
def power_cycle_command(names: tuple[str, ...]) -> int:
    """Inside the plant: take devices' power away for a second, and wait until they are back.

    \b
    portcall plant power-cycle fan-drive-1
    portcall plant power-cycle fan-drive-1 fan-drive-2
    """
    require_namespaces()
    from portcall.plant import control

    with ThreadPoolExecutor(len(names)) as together:
        states = list(together.map(control.power_cycle, names))
    for state in states:
        with_address = f"with {state.address}" if state.address else "without an address"
        click.echo(f"{state.name} has started again, {with_address}: {state.state}")
    return YES


@plant_command.command("unplug")
@click.argument("name")
def unplug_command(name: str) -> int:
    """Inside the plant: pull the cable of a device, or of one of the workstation's adapters.

    \b
    portcall plant unplug dryer-plc
    portcall plant unplug usb0
    """
    require_namespaces()
    from portcall.plant import control

    control.set_plug(name, plugged=False)
    click.echo(f"{name} is unplugged")
    return YES


@plant_command.command("plug")
@click.argument("name")
@click.option("--wire", metavar="WIRE", help="Put it into this wire instead of the one it was in.")
def plug_command(name: str, wire: str | None) -> int:
    """Inside the plant: put a cable back in, or move it to another wire.

    \b
    portcall plant plug usb0
    portcall plant plug usb0 --wire cell
    """
    require_namespaces()
    from portcall.plant import control

    control.set_plug(name, plugged=True, wire=wire)
    click.echo(f"{name} is plugged in" + (f", to {wire}" if wire else ""))
    return YES


@plant_command.command("on", context_settings=_RUNS_PROGRAMS)
@click.argument("name")
@click.argument("command", nargs=-1, required=True, type=click.UNPROCESSED, metavar="-- COMMAND…")
def on_command(name: str, command: tuple[str, ...]) -> int:
    """Inside the plant: run COMMAND on a device, where its adapter is eth0.

    Meant for devices of kind "bare", to run a real client program in.

    \b
    portcall plant on spare-1 -- ping 10.61.20.10
    portcall plant on spare-1 -- ip addr
    """
    require_namespaces()
    from portcall.plant import control

    # Click leaves the "--" after NAME in place.
    program = command[1:] if command[0] == "--" else command
    if not program:
        raise click.UsageError("which program? portcall plant on NAME -- PROGRAM …")
    control.become(name, program)


def _run(file: Path | None, command: tuple[str, ...], is_shell: bool = False) -> int:
    # The code that builds a plant is imported here: commands inside one do not need it.
    require_namespaces()
    from portcall.plant.run import Guest, run_in_plant
    from portcall.plant.scenario import read_scenario, shipped_scenario

    scenario = read_scenario(file) if file else shipped_scenario()
    if is_shell:
        click.echo(
            f"{scenario.name}: {len(scenario.devices)} devices. This shell is on its workstation.\n"
            'Try "portcall adapters", "portcall find", "portcall plant list"; "exit" ends it all.',
            err=True,
        )
    return run_in_plant(scenario, Guest(command, STATE_VARIABLE, in_site=is_shell))
