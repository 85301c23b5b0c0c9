"""`thresher inventory`."""

from thresher.cli.options import Json, Root, Simulate
from thresher.cli.output import say_json


def inventory(root: Root = None, simulate: Simulate = None, json: Json = False) -> None:
    """Show what this machine is: parts, slots, limits."""
    from thresher.app.machines import open_system
    from thresher.inventory.machine import read_inventory
    from thresher.machine.hardware_names import HardwareNames
    from thresher.sensors.discovery import discover

    system = open_system(root, simulate)
    found = read_inventory(system, HardwareNames())
    discovery = discover(system, found)
    if json:
        say_json({"inventory": found, "channels": discovery.channels, "not_read": discovery.unknown})
        return
    from thresher.cli.printing import print_inventory

    print_inventory(found, discovery)
