"""Raster load of a card: a field of stalks in the wind, drawn, textured and blended; every pixel is compared.

The scene repeats after `FRAMES` frames. Each is drawn twice at the beginning and has to come out the same; that is the
reference, kept on the card and as a check sum here. From then on a shader compares every pixel of every frame.
"""

import time
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from thresher.graphics.faults import FaultBuffer
from thresher.graphics.mirror import MirrorWriter
from thresher.graphics.pictures import keep_difference
from thresher.graphics.results import Beat, Source, Wrong
from thresher.graphics.shaders import JUDGE, compute, groups

if TYPE_CHECKING:
    import moderngl

FRAMES = 12
_SEGMENTS = 7
_NOISE = 256
_MOST_PICTURES = 12
_MIRROR_S = 0.05
_RECHECK_S = 30.0
"""So often the reference on the card is held against its check sum: all of it has to be fetched for that."""

Spoil = Callable[["moderngl.Texture", int], None]
"""Called with a frame before it is compared and the beat: tests change pixels in it."""

_STALK_VERTEX = """
#version 430
layout(location = 0) in vec2 along; layout(location = 1) in vec4 root; layout(location = 2) in vec4 look;
uniform mat4 camera; uniform float time;
out vec3 shade; out vec2 cloth;
void main() {
    float t = along.x;
    float gust = sin(6.2831853 * time + root.w) + 0.4 * sin(12.566371 * time + 2.3 * root.x);
    vec3 place = vec3(root.x, 0.0, root.y);
    place.y += root.z * t * (1.0 - 0.12 * gust * gust * t);
    place.x += 0.45 * gust * t * t + along.y * look.w * (1.0 - 0.8 * t);
    place.z += 0.2 * sin(6.2831853 * time + root.w * 1.7) * t * t;
    float ear = smoothstep(0.72, 0.8, t);
    shade = mix(look.rgb * (0.45 + 0.55 * t), vec3(0.93, 0.74, 0.33), ear) * (0.82 + 0.18 * along.y);
    cloth = vec2(along.y * 0.5 + root.w, t * 3.0 + root.x);
    gl_Position = camera * vec4(place, 1.0);
}
"""
_STALK_FRAGMENT = """
#version 430
in vec3 shade; in vec2 cloth; out vec4 colour; uniform sampler2D noise;
void main() {
    float grain = 0.0;
    for (int tap = 0; tap < 4; ++tap) grain += texture(noise, cloth * exp2(float(tap))).r * exp2(-float(tap) - 1.0);
    colour = vec4(shade * (0.6 + 0.7 * grain), 1.0);
}
"""
_SHEET_VERTEX = """
#version 430
layout(location = 0) in vec2 corner; out vec2 at;
void main() { at = corner * 0.5 + 0.5; gl_Position = vec4(corner, 0.0, 1.0); }
"""
_SKY_FRAGMENT = """
#version 430
in vec2 at; out vec4 colour; uniform sampler2D noise;
void main() {
    float cloud = texture(noise, at * vec2(0.7, 1.9)).r;
    vec3 sky = mix(vec3(0.16, 0.36, 0.40), vec3(0.95, 0.86, 0.70), smoothstep(0.95, 0.55, at.y));
    vec3 soil = mix(vec3(0.22, 0.17, 0.10), vec3(0.40, 0.31, 0.17), cloud);
    float far = smoothstep(0.2, 0.58, at.y);
    vec3 ground = mix(soil, vec3(0.72, 0.60, 0.34), far * far);
    colour = vec4(at.y < 0.58 ? ground : sky + 0.10 * (cloud - 0.5), 1.0);
}
"""
_CHAFF_FRAGMENT = """
#version 430
in vec2 at; out vec4 colour; uniform sampler2D noise; uniform float time; uniform float layer;
void main() {
    vec2 drift = vec2(time + layer * 0.37, layer * 0.61 - time);
    float speck = 0.0;
    for (int tap = 0; tap < 6; ++tap) speck += texture(noise, at * (2.0 + layer) + drift * float(tap + 1)).r;
    float seen = smoothstep(3.7, 4.3, speck);
    colour = vec4(0.98, 0.88, 0.55, 1.0) * seen * 0.22;
}
"""
_COMPARE = (
    JUDGE
    + """
uniform sampler2D frame; uniform sampler2DArray reference; uniform int number; uniform uint width; uniform uint pixels;
uniform uint across;
void main() {
    uint pixel = gl_GlobalInvocationID.x + gl_GlobalInvocationID.y * across;
    if (pixel >= pixels) return;
    ivec2 at = ivec2(pixel % width, pixel / width);
    judge(pixel, packUnorm4x8(texelFetch(reference, ivec3(at, number), 0)), packUnorm4x8(texelFetch(frame, at, 0)));
}
"""
)


def _camera(width: int, height: int) -> npt.NDArray[np.float32]:
    """Return a perspective view over the field from a little above the ears, column by column as OpenGL takes it."""
    near, far, wide = 0.5, 60.0, 1.5
    lens = np.zeros((4, 4))
    lens[0, 0], lens[1, 1] = wide * height / width, wide
    lens[2, 2], lens[2, 3] = -(far + near) / (far - near), -2 * far * near / (far - near)
    lens[3, 2] = -1.0
    tilt = 0.22
    turn = np.eye(4)
    turn[1, 1], turn[1, 2], turn[2, 1], turn[2, 2] = np.cos(tilt), -np.sin(tilt), np.sin(tilt), np.cos(tilt)
    move = np.eye(4)
    move[:3, 3] = (0.0, -3.1, -3.0)
    return np.ascontiguousarray((lens @ turn @ move).T, dtype=np.float32)


def _stalks(count: int) -> npt.NDArray[np.float32]:
    """Return root (x, z, height, phase) and look (colour, width) of every stalk."""
    rng = np.random.default_rng(7)
    depth = rng.uniform(0.0, 1.0, count) ** 0.6 * 34.0
    x = rng.uniform(-1.0, 1.0, count) * (4.0 + depth)
    height = rng.uniform(1.5, 2.3, count)
    phase = rng.uniform(0.0, 6.28, count) + 0.25 * x
    colour = np.array([0.62, 0.55, 0.20]) + rng.uniform(-0.1, 0.12, (count, 3))
    width = rng.uniform(0.018, 0.034, count)
    return np.column_stack((x, -depth, height, phase, colour, width)).astype(np.float32)


class RasterLoad:
    """The frames in turn. A unit is one frame."""

    def __init__(
        self,
        gl: "moderngl.Context",
        size: tuple[int, int] = (1280, 720),
        stalks: int = 40_000,
        layers: int = 8,
        folder: Path | None = None,
        spoil: Spoil | None = None,
        mirror: MirrorWriter | None = None,
    ) -> None:
        """Draw every frame twice.

        `folder` is where pictures of wrong frames are kept, `layers` how much is blended, `mirror` shows the frames."""
        self._gl, self.size, self._folder, self._spoil = gl, size, folder, spoil
        self._mirror, self._mirrored = mirror, 0.0
        self._layers, self._count = layers, stalks
        self._beat = self._pictures = 0
        rng = np.random.default_rng(3)
        noise = rng.integers(0, 256, (_NOISE, _NOISE), dtype=np.uint8)
        self._noise = gl.texture((_NOISE, _NOISE), 1, noise.tobytes())
        self._noise.build_mipmaps()
        self._noise.repeat_x = self._noise.repeat_y = True
        self._frame = gl.texture(size, 4)
        self._frame.filter = (gl.NEAREST, gl.NEAREST)
        self._canvas = gl.framebuffer([self._frame], gl.depth_renderbuffer(size))
        self._make_scene()
        self._reference = gl.texture_array((*size, FRAMES), 4)
        self._compare = compute(gl, _COMPARE)
        self._faults = FaultBuffer(gl)
        self._sums: list[int] = []
        opening = 0
        wrong: tuple[Wrong, ...] = ()
        for number in range(FRAMES):
            self._draw(number)
            drawn = self._frame.read()
            self._sums.append(zlib.crc32(drawn))
            self._reference.write(drawn, viewport=(0, 0, number, *size, 1))
            self._draw(number)
            count, found = self._judge(number, "drawn twice, and not the same")
            opening, wrong = opening + count, (*wrong, *found)[:8]
        self._opening = Beat(0.0, opening, wrong)
        self._rechecked = time.monotonic()

    @property
    def covered(self) -> int:
        """Bytes of card memory that are checked: none beyond the frames."""
        return 0

    def _make_scene(self) -> None:
        gl = self._gl
        t = np.repeat(np.linspace(0.0, 1.0, _SEGMENTS + 1), 2)
        along = np.column_stack((t, np.tile((-1.0, 1.0), _SEGMENTS + 1))).astype(np.float32)
        self._stalk = gl.program(vertex_shader=_STALK_VERTEX, fragment_shader=_STALK_FRAGMENT)
        self._stalk["camera"] = tuple(_camera(*self.size).ravel().tolist())
        stalks = gl.buffer(_stalks(self._count).tobytes())
        self._field = gl.vertex_array(self._stalk, [(gl.buffer(along.tobytes()), "2f", 0), (stalks, "4f 4f/i", 1, 2)])
        corners = gl.buffer(np.array([-1, -1, 1, -1, -1, 1, 1, 1], dtype=np.float32).tobytes())
        self._sky_program = gl.program(vertex_shader=_SHEET_VERTEX, fragment_shader=_SKY_FRAGMENT)
        self._sky = gl.vertex_array(self._sky_program, [(corners, "2f", 0)])
        self._chaff_program = gl.program(vertex_shader=_SHEET_VERTEX, fragment_shader=_CHAFF_FRAGMENT)
        self._chaff = gl.vertex_array(self._chaff_program, [(corners, "2f", 0)])

    def _draw(self, number: int) -> None:
        """Draw a frame of the round."""
        gl = self._gl
        phase = number / FRAMES
        self._canvas.use()
        gl.viewport = (0, 0, *self.size)
        self._noise.use(0)
        gl.disable(gl.BLEND | gl.DEPTH_TEST)
        self._canvas.clear()
        self._sky.render(gl.TRIANGLE_STRIP)
        gl.enable(gl.DEPTH_TEST)
        self._stalk["time"] = phase
        self._field.render(gl.TRIANGLE_STRIP, instances=self._count)
        gl.disable(gl.DEPTH_TEST)
        gl.enable(gl.BLEND)
        gl.blend_func = gl.ONE, gl.ONE_MINUS_SRC_ALPHA
        self._chaff_program["time"] = phase
        for layer in range(self._layers):
            self._chaff_program["layer"] = float(layer)
            self._chaff.render(gl.TRIANGLE_STRIP)
        gl.disable(gl.BLEND)

    def _judge(self, number: int, detail: str) -> tuple[int, tuple[Wrong, ...]]:
        pixels = self.size[0] * self.size[1]
        size = groups(pixels)
        self._faults.clear()
        self._frame.use(0)
        self._reference.use(1)
        values = {"frame": 0, "reference": 1, "number": number, "width": self.size[0], "pixels": pixels}
        for name, value in (values | {"across": size[0] * 64}).items():
            self._compare[name] = value
        self._compare.run(*size)
        return self._faults.read(Source.PIXEL, self._beat, detail)

    def beat(self) -> Beat:
        """Draw one frame and compare every pixel of it."""
        self._beat += 1
        number = self._beat % FRAMES
        self._draw(number)
        if self._spoil is not None:
            self._spoil(self._frame, self._beat)
        count, wrong = self._judge(number, f"frame {number}")
        if self._mirror is not None and time.monotonic() - self._mirrored >= _MIRROR_S:
            self._mirrored = time.monotonic()
            self._mirror.show(number, self._frame.read())
        picture = self._keep(number) if count else ""
        if time.monotonic() - self._rechecked >= _RECHECK_S:
            self._rechecked = time.monotonic()
            more, others = self._recheck(number)
            count, wrong = count + more, (*wrong, *others)
        if self._opening.wrong_count:
            count, wrong = count + self._opening.wrong_count, (*self._opening.wrong, *wrong)
            self._opening = Beat(0.0)
        return Beat(1.0, count, wrong, picture)

    def _recheck(self, number: int) -> tuple[int, tuple[Wrong, ...]]:
        """Hold the reference on the card against what it was at the beginning."""
        layer = self._layer(number)
        found = zlib.crc32(layer)
        if found == self._sums[number]:
            return 0, ()
        detail = f"the reference of frame {number} on the card has changed"
        return 1, (Wrong(Source.MEMORY, self._beat, 0, self._sums[number], found, detail),)

    def _layer(self, number: int) -> bytes:
        size = self.size[0] * self.size[1] * 4
        whole = self._reference.read()
        return bytes(whole[number * size : (number + 1) * size])

    def _keep(self, number: int) -> str:
        """Save a picture of a wrong frame; return its path, empty where none is kept."""
        if self._folder is None or self._pictures >= _MOST_PICTURES:
            return ""
        self._pictures += 1
        shape = (self.size[1], self.size[0], 4)
        found = np.frombuffer(self._frame.read(), dtype=np.uint8).reshape(shape)
        expected = np.frombuffer(self._layer(number), dtype=np.uint8).reshape(shape)
        path = self._folder / f"wrong-frame-{self._beat:06d}.png"
        return keep_difference(path, expected, found)
