"""What the simulated place is made of: reflectance by place on a surface, filtered to the footprint of a pixel."""

from __future__ import annotations

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.simulator import textures
from idle_lantern.simulator.surfaces import Material


def plain(colour: tuple[float, float, float], seed: int, strength: float = 0.3) -> Material:
    """One colour with grain."""
    base = np.array(colour, np.float32)
    return lambda a, b, f: base * textures.detail(a, b, f, seed, strength)[..., None]


def masonry(colour: tuple[float, float, float], seed: int, length: float = 0.55, height: float = 0.28) -> Material:
    """Stones in courses, each of its own tone."""
    base = np.array(colour, np.float32)

    def material(a: Array, b: Array, f: Array) -> Array:
        course = np.floor(b / height)
        shifted = a + (course % 2) * np.float32(length / 2)
        joint = 1 - (1 - textures.lines(b, f, height, 0.022)) * (1 - textures.lines(shifted, f, length, 0.022))
        block = textures.cell_noise(np.floor(shifted / length), course, seed) - 0.5
        block = block * np.clip(1.5 - f / length, 0, 1)
        tone = (0.75 + 0.6 * block) * textures.detail(a, b, f, seed, 0.3) * (1 - 0.5 * joint)
        warm = 1 + block[..., None] * np.array([0.18, 0.0, -0.18], np.float32)
        return np.asarray(base * tone[..., None] * warm)

    return material


def planks(colour: tuple[float, float, float], seed: int, width: float = 0.16) -> Material:
    """Boards with gaps and grain."""
    base = np.array(colour, np.float32)

    def material(a: Array, b: Array, f: Array) -> Array:
        gap = textures.lines(a, f, width, 0.012)
        plank = textures.cell_noise(np.floor(a / width), np.zeros_like(a), seed) - 0.5
        plank = plank * np.clip(1.5 - f / width, 0, 1)
        grain = textures.detail(a * 4, b * np.float32(0.4), f * 2, seed, 0.25) * textures.detail(a, b, f, seed + 7, 0.2)
        return np.asarray(base * ((0.8 + 0.5 * plank) * grain * (1 - 0.7 * gap))[..., None])

    return material


def wall_with_windows(wall: Material, width: float, height: float, seed: int) -> Material:
    """A wall with rows of windows."""
    columns, rows = max(1, round(width / 2.2)), max(1, round(height / 3.0))

    def material(a: Array, b: Array, f: Array) -> Array:
        colour = wall(a, b, f)
        cell_w, cell_h = width / columns, height / rows
        x, y = np.mod(a, cell_w) - cell_w / 2, np.mod(b, cell_h) - cell_h * 0.48
        frame = textures.edge(np.minimum(0.52 - np.abs(x), 0.78 - np.abs(y)), f)[..., None]
        pane = textures.edge(np.minimum(0.43 - np.abs(x), 0.69 - np.abs(y)), f)
        bars = np.maximum(textures.lines(x + 0.02, f, 0.43, 0.04), textures.lines(y + 0.02, f, 0.46, 0.04))
        lit = textures.cell_noise(np.floor(a / cell_w), np.floor(b / cell_h), seed)
        glass = (
            np.array([0.10, 0.13, 0.16], np.float32)
            * (0.6 + lit + 0.15 * textures.noise(a, b, f, 5.0, seed))[..., None]
        )
        colour = colour + frame * (np.array([0.75, 0.74, 0.70], np.float32) - colour)
        return np.asarray(colour + (pane * (1 - bars))[..., None] * (glass - colour))

    return material


def tiles(colour: tuple[float, float, float], seed: int) -> Material:
    """Roof tiles."""
    base = np.array(colour, np.float32)

    def material(a: Array, b: Array, f: Array) -> Array:
        rows = textures.lines(b, f, 0.33, 0.05)
        columns = textures.lines(a + np.floor(b / 0.33) % 2 * np.float32(0.12), f, 0.24, 0.03)
        tile = textures.cell_noise(np.floor(a / 0.24), np.floor(b / 0.33), seed) * np.clip(1.5 - f / 0.24, 0, 1)
        tone = (0.7 + 0.5 * tile) * (1 - 0.55 * rows) * (1 - 0.3 * columns) * textures.detail(a, b, f, seed, 0.25)
        return base * tone[..., None]

    return material


def scaled(material: Material, factor: float) -> Material:
    """The same, ``factor`` times as large."""
    return lambda a, b, f: material(a / np.float32(factor), b / np.float32(factor), f / np.float32(factor))
