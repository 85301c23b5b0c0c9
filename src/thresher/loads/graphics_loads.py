"""What can be done with a graphics card on a run sheet; `thresher.graphics` does the work, not a team of workers."""

from dataclasses import dataclass

from thresher.loads.device_load import DeviceLoad
from thresher.model.card_port import CardUse
from thresher.model.parts import PartKind


@dataclass(frozen=True, slots=True, kw_only=True)
class GraphicsLoad(DeviceLoad):
    """One use of a graphics card as a load on the sheet."""

    use: CardUse
    shaped: bool = True
    row: PartKind = PartKind.GRAPHICS


_ALL = (
    GraphicsLoad(
        use=CardUse.RASTER,
        strains="the card's whole pipeline by a scene that is drawn over and over: vertices, textures, blending, depth",
        finds="wrong pixels, hangs and resets of the card, heat, a weak supply, and artefacts that a person sees",
        misses="most of the card's memory, and faults of the display's cable that nobody looks for",
        usual_s=900.0,
        heat=1.0,
    ),
    GraphicsLoad(
        use=CardUse.COMPUTE,
        strains="the card's arithmetic by chains of whole numbers and of floating point",
        finds="wrong results of the card's core, hangs and resets, heat, a weak supply",
        misses="textures, blending and most of the card's memory",
        usual_s=600.0,
        heat=0.95,
    ),
    GraphicsLoad(
        use=CardUse.MEMORY,
        strains="the card's memory by patterns over as much of it as can be had",
        finds="bad cells, bit lanes and regions of the card's memory",
        misses="the memory that the display and other programs hold, and faults of the core",
        usual_s=600.0,
        heat=0.7,
    ),
    GraphicsLoad(
        use=CardUse.TRANSFER,
        strains="the card's link by data that goes to the card and back at its full rate",
        finds="damaged transfers, link errors, a link that is narrow or slow under load",
        misses="everything behind the link",
        usual_s=300.0,
        heat=0.35,
    ),
)

GRAPHICS_LOADS: dict[str, GraphicsLoad] = {each.name: each for each in _ALL}
