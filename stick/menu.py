"""The boot menu: its entries, its text for GRUB, and its look where the firmware can show pictures.

GRUB Manual 2.06, chapters "Writing your own configuration file" and "Theme file format". Kernel parameters: those of
live-boot(7), systemd(1) and the kernel's own list; `thresher.mode` is read by `thresher.stick.boot`.
"""

from dataclasses import dataclass
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

FOLDER = "boot/grub"
MARK = "live/thresher-stick"
"""A file that only this stick has: the loader finds it by that."""
SECONDS = 8
"""How long the menu waits before it starts the first entry: also what makes a run go on after a crash."""

_ALWAYS = (
    "boot=live live-media=/dev/thresher-stick noswap noresume systemd.swap=no systemd.gpt_auto=no nopersistence"
    " init_on_alloc=0 consoleblank=0"
)


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of the menu: what it is called, what is said of it, and its kernel parameters beside the usual ones."""

    title: str
    hint: str
    parameters: str = ""


ENTRIES = (
    Entry("Thresher", "Boots into the bench. Nothing on the machine's drives is changed.", "quiet"),
    Entry("Thresher, safe graphics", "For a black screen: runs without a graphics driver.", "quiet nomodeset"),
    Entry(
        "Thresher, everything in memory",
        "Takes a minute longer; then the stick can be removed.",
        "quiet toram",
    ),
    Entry(
        "Memory only: the long check at once",
        "In text mode, so that as much memory as possible is free for the check.",
        "quiet thresher.mode=memory",
    ),
    Entry(
        "Text mode",
        "No graphics at all; also on the first serial port, 115200 baud.",
        "thresher.mode=text console=tty0 console=ttyS0,115200n8",
    ),
)

_INK, _SOFT, _PAPER, _BAND = "#22302E", "#5B6762", "#F4EFE3", "#E3C777"


def grub_config() -> str:
    """Return the menu as GRUB reads it."""
    lines = [
        f"set timeout={SECONDS}",
        "set default=0",
        "insmod all_video",
        "insmod gfxterm",
        "insmod png",
        "if loadfont $prefix/plain.pf2; then",
        "  set font_good=1",
        "  loadfont $prefix/menu.pf2",
        "  loadfont $prefix/menu-large.pf2",
        "fi",
        "set gfxmode=1024x768,1280x800,auto",
        "terminal_output gfxterm",
        'if [ "$font_good" = 1 ]; then',
        "  insmod gfxmenu",
        "  set theme=$prefix/theme.txt",
        "  export theme",
        "fi",
        "if serial --unit=0 --speed=115200; then",
        "  terminal_input --append serial",
        "  terminal_output --append serial",
        "fi",
    ]
    for entry in ENTRIES:
        parameters = " ".join(word for word in (_ALWAYS, entry.parameters) if word)
        lines += [
            f'menuentry "{entry.title}" --class thresher {{',
            f'  echo "{entry.hint}"',
            f"  linux /live/vmlinuz {parameters}",
            "  initrd /live/initrd.img",
            "}",
        ]
    lines += [
        'if [ "$grub_platform" = efi ]; then',
        '  menuentry "Firmware setup" {',
        "    fwsetup",
        "  }",
        "fi",
        'menuentry "Shut down" {',
        "  halt",
        "}",
    ]
    return "\n".join(lines) + "\n"


def first_config() -> str:
    """Return what the signed loader reads first, on the small partition that UEFI starts from: where the rest is."""
    return f"search --no-floppy --file --set=root /{MARK}\nset prefix=($root)/{FOLDER}\nconfigfile $prefix/grub.cfg\n"


def theme_text() -> str:
    """Return the look of the menu in pictures: a band with the name, the entries, and what holds always."""
    hint = "Up and down, then Enter. E edits an entry for this boot."
    return "\n".join(
        [
            f'desktop-color: "{_PAPER}"',
            'desktop-image: "paper.png"',
            'title-text: ""',
            'terminal-left: "6%"',
            'terminal-top: "16%"',
            'terminal-width: "88%"',
            'terminal-height: "76%"',
            'terminal-font: "B612 Mono Regular 16"',
            "+ boot_menu {",
            "  left = 8%",
            "  top = 30%",
            "  width = 84%",
            "  height = 46%",
            '  item_font = "B612 Regular 22"',
            f'  item_color = "{_INK}"',
            f'  selected_item_color = "{_PAPER}"',
            '  selected_item_pixmap_style = "chosen_*.png"',
            "  item_height = 42",
            "  item_padding = 14",
            "  item_spacing = 4",
            "}",
            "+ label {",
            "  left = 8%",
            "  top = 82%",
            "  width = 84%",
            f'  text = "{hint}"',
            '  font = "B612 Regular 16"',
            f'  color = "{_INK}"',
            "}",
            "+ label {",
            '  id = "__timeout__"',
            "  left = 8%",
            "  top = 88%",
            "  width = 84%",
            '  text = "Thresher starts in %d seconds."',
            '  font = "B612 Regular 16"',
            f'  color = "{_SOFT}"',
            "}",
            "",
        ]
    )


def draw_pictures(folder: Path, fonts: Path) -> None:
    """Write the pictures of the menu into a folder, with the program's own type."""
    width, height = 1024, 768
    paper = Image.new("RGB", (width, height), _PAPER)
    draw = ImageDraw.Draw(paper)
    draw.rectangle((0, 0, width, 118), fill=_INK)
    draw.rectangle((0, 118, width, 122), fill=_BAND)
    draw.text((82, 28), "Thresher", font=ImageFont.truetype(str(fonts / "B612-Bold.otf"), 40), fill=_PAPER)
    small = ImageFont.truetype(str(fonts / "B612-Regular.otf"), 17)
    draw.text((82, 80), "Reads this machine's drives only. Installs nothing.", font=small, fill="#B9C2BC")
    # threshing strokes: the grain falls out, the straw goes on
    for number in range(24):
        x = 640 + number * 14
        draw.line((x, 96, x + 34, 24), fill=_BAND if number % 6 == 2 else "#3A4A47", width=3)
    paper.save(folder / "paper.png")
    for part, size in (("c", (8, 8)), ("w", (10, 8)), ("e", (4, 8)), ("n", (8, 2)), ("s", (8, 2))):
        Image.new("RGB", size, _BAND if part == "w" else _INK).save(folder / f"chosen_{part}.png")
    for part in ("nw", "sw"):
        Image.new("RGB", (10, 2), _BAND).save(folder / f"chosen_{part}.png")
    for part in ("ne", "se"):
        Image.new("RGB", (4, 2), _INK).save(folder / f"chosen_{part}.png")
