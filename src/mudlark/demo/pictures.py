"""The demo's synthetic pictures and sound: a frame counter that eyes and programs can read, and beeps at known times.

A row of cells along the lower edge carries the frame number in binary, most significant bit first: a white marker, 16
cells, a black marker. Every cell is a twentieth of the picture wide, so it survives scaling and compression.
"""

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from mudlark.media.samples import Bytes

FRAME_RATE = 25
SAMPLE_RATE = 48_000
BEEP_EVERY = 2  # seconds; the beep at second 0 is left out, so the first is at 2
BEEP_LENGTH = 0.2
_CELLS = 20
_BITS = 16


def picture(number: int, width: int, height: int, title: str) -> Image.Image:
    """Frame `number`: a slow sky, a turning mill wheel, the time, and the counter."""
    seconds = number / FRAME_RATE
    sky = np.linspace(70, 200, height)[:, None, None] * np.array([0.55, 0.75, 0.95]) + 12 * np.sin(seconds / 3)
    image = Image.fromarray(np.broadcast_to(np.clip(sky, 0, 255).astype(np.uint8), (height, width, 3)))
    draw = ImageDraw.Draw(image)
    level = height * (0.66 + 0.04 * np.sin(seconds * 0.8))
    draw.rectangle((0, level, width, height), fill=(24, 74, 92))
    centre, radius = (width * 0.74, height * 0.5), height * 0.24
    for spoke in range(8):
        angle = seconds * 0.9 + spoke * np.pi / 4
        tip = (centre[0] + radius * np.cos(angle), centre[1] + radius * np.sin(angle))
        draw.line((*centre, *tip), fill=(92, 52, 30), width=max(2, height // 60))
    box = (centre[0] - radius, centre[1] - radius, centre[0] + radius, centre[1] + radius)
    draw.ellipse(box, outline=(92, 52, 30), width=max(2, height // 45))
    large, small = ImageFont.load_default(height // 8), ImageFont.load_default(height // 16)
    draw.text((width * 0.05, height * 0.10), title, font=small, fill=(250, 246, 230))
    draw.text((width * 0.05, height * 0.22), f"{number:04d}", font=large, fill=(255, 255, 255))
    draw.text((width * 0.05, height * 0.40), f"{seconds:06.2f} s", font=small, fill=(250, 246, 230))
    cell, top = width / _CELLS, round(height * 0.88)
    bits = [1, *(number >> shift & 1 for shift in reversed(range(_BITS))), 0]
    draw.rectangle((0, top, width, height), fill=(128, 128, 128))
    for place, bit in enumerate(bits, start=1):
        edges = (round(place * cell), top, round((place + 1) * cell) - 1, height)
        draw.rectangle(edges, fill=(255, 255, 255) if bit else (0, 0, 0))
    return image


def leaf(number: int, width: int, height: int) -> Image.Image:
    """A leaf of the keeper's logbook: ruled paper, its number, and lines of a hand that nobody can read."""
    image = Image.new("RGB", (width, height), (238, 229, 204))
    draw = ImageDraw.Draw(image)
    font = ImageFont.load_default(height / 14)
    draw.text((width * 0.12, height * 0.05), f"Leaf {number}", font=font, fill=(74, 52, 38))
    ink = np.random.default_rng(number)
    for row in range(20):
        level = height * (0.16 + row * 0.04)
        draw.line((width * 0.08, level, width * 0.92, level), fill=(190, 178, 150), width=max(1, height // 600))
        across = np.linspace(width * 0.12, width * ink.uniform(0.6, 0.88), 90)
        waves = level - height * 0.012 * np.abs(np.sin(across / width * 90 + ink.uniform(0, 6, 90)))
        hand = list(zip(across.tolist(), waves.tolist(), strict=True))
        draw.line(hand, fill=(60, 52, 70), width=max(1, height // 500))
    return image


def read_counter(image: Image.Image) -> int | None:
    """The frame number that the cells of a picture carry, or None if the markers are not there."""
    grey = np.asarray(image.convert("L"), np.float64)
    height, width = grey.shape
    row = grey[round(height * 0.92) : round(height * 0.97)].mean(axis=0)
    cell = width / _CELLS
    values = [row[round((place + 0.3) * cell) : round((place + 0.7) * cell)].mean() for place in range(1, _BITS + 3)]
    if values[0] < 170 or values[-1] > 85:
        return None
    return sum(int(value > 128) << (_BITS - 1 - place) for place, value in enumerate(values[1:-1]))


def planar(image: Image.Image) -> bytes:
    """The picture as planes of luma and halved chroma (BT.601, studio range), as an encoder takes them."""
    rgb = np.asarray(image, np.float32)
    weights = np.array([[65.481, 128.553, 24.966], [-37.797, -74.203, 112.0], [112.0, -93.786, -18.214]]) / 255
    luma, blue, red = (rgb @ weights.T.astype(np.float32) + np.array([16, 128, 128], np.float32)).transpose(2, 0, 1)
    height, width = luma.shape
    halved = [plane.reshape(height // 2, 2, width // 2, 2).mean(axis=(1, 3)) for plane in (blue, red)]
    return b"".join(np.clip(np.rint(plane), 0, 255).astype(np.uint8).tobytes() for plane in (luma, *halved))


def sound(seconds: float, pitch: float = 1000.0) -> Bytes:
    """Stereo sound as 16-bit little-endian samples: a quiet low tone, and a loud beep (of so many hertz) every second
    second."""
    time = np.arange(round(seconds * SAMPLE_RATE)) / SAMPLE_RATE
    hum = 0.03 * np.sin(2 * np.pi * 110 * time)
    inside = (time % BEEP_EVERY < BEEP_LENGTH) & (time >= BEEP_EVERY)
    beep = np.where(inside, 0.5 * np.sin(2 * np.pi * pitch * time), 0)
    wave = np.rint((hum + beep) * 32767).astype("<i2")
    return np.repeat(wave, 2).view(np.uint8)
