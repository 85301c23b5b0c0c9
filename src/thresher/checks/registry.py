"""All checks, by name and in the order of a round: quick looks first, what heats the machine last.

A new check is a file with a `Check` in it and a row here, or an entry point of the group `thresher.checks` in a package
of its own that names such a value."""

from thresher.checks.battery import adapter, rate, wear
from thresher.checks.board import clock, controller, rails
from thresher.checks.check import Check
from thresher.checks.cooling import fans, fans_driven, heat
from thresher.checks.display import brightness, picture, touch
from thresher.checks.drives import health, quick
from thresher.checks.graphics import card_memory, compute, link, outputs
from thresher.checks.input import camera, keys, pointer
from thresher.checks.memory import cells, fitted
from thresher.checks.network import bluetooth, cable, names, reach, wireless
from thresher.checks.ports import card_reader, links, optical, usb
from thresher.checks.processor import boost, clocks, cores, pairs, primes, rounding
from thresher.checks.sound import loop, microphone, speakers
from thresher.model.plugins import plugins

ENTRY_POINTS = "thresher.checks"

_SHIPPED = (
    heat.CHECK,
    fitted.CHECK,
    health.CHECK,
    links.CHECK,
    outputs.CHECK,
    clock.CHECK,
    wear.CHECK,
    cable.CHECK,
    reach.CHECK,
    names.CHECK,
    wireless.CHECK,
    bluetooth.CHECK,
    fans.CHECK,
    fans_driven.CHECK,
    cores.CHECK,
    pairs.CHECK,
    rounding.CHECK,
    primes.CHECK,
    clocks.CHECK,
    boost.CHECK,
    compute.CHECK,
    card_memory.CHECK,
    link.CHECK,
    controller.CHECK,
    rails.CHECK,
    adapter.CHECK,
    rate.CHECK,
    quick.SELF_TEST,
    quick.PLACES,
    cells.SHORT,
    picture.CHECK,
    brightness.CHECK,
    touch.CHECK,
    keys.CHECK,
    pointer.CHECK,
    speakers.CHECK,
    microphone.CHECK,
    loop.CHECK,
    camera.CHECK,
    usb.CHECK,
    card_reader.CHECK,
    optical.CHECK,
    cells.LONG,
    quick.WHOLE,
)

CHECKS: dict[str, Check] = plugins(ENTRY_POINTS, Check) | {each.name: each for each in _SHIPPED}
