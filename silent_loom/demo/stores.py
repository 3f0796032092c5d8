"""More known surfaces of Skerry Light, from its stores: rope, cork, kelp."""

from __future__ import annotations

import numpy as np

from silent_loom.demo.surfaces import Array, Surface, grid, mix, noise, srgb, step, surface


def rope(shape: tuple[int, int], texel: float, seed: int = 83) -> Surface:
    """Tarred rope, laid side by side: three strands a turn, tar in the grooves, loose yarns."""
    x, y = grid(shape, texel)
    pitch, lay = 34.0, 46.0
    x = x + 0.9 * noise(shape, 220 / texel, seed, 2)
    i = np.floor(x / pitch)
    rng = np.random.default_rng(seed)
    phase, tone = rng.uniform(0, 1, 4096)[i.astype(int) % 4096], rng.normal(0, 1, 4096)[i.astype(int) % 4096]
    u = (x / pitch - i) * 2 - 1  # −1…1 across a rope
    round_ = np.sqrt(np.clip(1 - (u / 0.99) ** 2, 0, 1))
    # Strands wind round: a slanted phase, steeper towards the flanks as the eye sees a helix
    turn = (y / lay + phase + 0.62 * np.arcsin(np.clip(u, -1, 1)) / np.pi * 2) * 1.0
    t = turn * 1.0 - np.floor(turn)
    strand = np.sqrt(np.clip(1 - (2 * t - 1) ** 2, 0, 1))
    yarn = np.sin(2 * np.pi * (6.0 * turn - 2.2 * u + 0.15 * noise(shape, 30 / texel, seed + 1, 2)))
    fray = noise(shape, 5 / texel, seed + 2, 4, 0.7)
    height = 13.0 * round_ + 4.2 * strand * (0.35 + 0.65 * round_) + 0.45 * yarn * strand + 0.3 * fray
    groove = 1 - step(0.15, 0.6, strand)
    flank = 1 - step(0.1, 0.5, round_)
    base = np.broadcast_to(srgb(92, 68, 45), (*shape, 3)) * np.exp(0.12 * tone + 0.10 * yarn + 0.09 * fray)[..., None]
    tar = np.clip(0.75 * groove + 0.7 * flank + 0.3 * step(0.4, 1.6, noise(shape, 90 / texel, seed + 3, 3)), 0, 1)
    base = mix(base, np.broadcast_to(srgb(30, 25, 22), (*shape, 3)), tar * 0.88)
    rough = np.clip(0.78 - 0.3 * tar + 0.04 * fray, 0.2, 1)
    return surface(height, base, rough, shape, texel)


def cork(shape: tuple[int, int], texel: float, seed: int = 97) -> Surface:
    """Cork of old floats, sawn and weathered: grains of all sizes, dark pores, a few worm holes."""
    rng = np.random.default_rng(seed)
    x, y = grid(shape, texel)
    wx, wy = x + 1.6 * noise(shape, 12 / texel, seed, 3), y + 1.6 * noise(shape, 12 / texel, seed + 1, 3)
    cell = 6.5
    ci, cj = np.floor(wx / cell).astype(int), np.floor(wy / cell).astype(int)
    table_x, table_y = rng.uniform(0.1, 0.9, (256, 256)), rng.uniform(0.1, 0.9, (256, 256))
    shade = rng.normal(0, 1, (256, 256))
    near, second, tone = np.full(shape, 1e9), np.full(shape, 1e9), np.zeros(shape)
    for dj in (-1, 0, 1):
        for di in (-1, 0, 1):
            a, b = (ci + di) % 256, (cj + dj) % 256
            d = np.hypot(wx - (ci + di + table_x[a, b]) * cell, wy - (cj + dj + table_y[a, b]) * cell)
            closer = d < near
            second = np.where(closer, near, np.minimum(second, d))
            tone = np.where(closer, shade[a, b], tone)
            near = np.where(closer, d, near)
    rim = step(0.25, 1.3, second - near)
    grit = noise(shape, 3 / texel, seed + 2, 3, 0.7)
    broad = noise(shape, 90 / texel, seed + 3, 3)
    pores = step(1.35, 1.9, noise(shape, 9 / texel, seed + 4, 3) + 0.3 * broad)
    height = 0.55 * rim + 0.3 * tone + 0.2 * grit + 0.5 * broad - 2.4 * pores
    base = np.broadcast_to(srgb(158, 116, 76), (*shape, 3)) * np.exp(0.14 * tone + 0.06 * grit + 0.05 * broad)[..., None]
    base = mix(base, np.broadcast_to(srgb(104, 68, 42), (*shape, 3)), (1 - rim) * 0.6)
    base = mix(base, np.broadcast_to(srgb(46, 30, 22), (*shape, 3)), pores * 0.9)
    rough = np.clip(0.88 + 0.03 * grit - 0.05 * rim, 0, 1)
    return surface(height, base, rough, shape, texel)


def kelp(shape: tuple[int, int], texel: float, seed: int = 109) -> Surface:
    """Kelp blade, wet: long ripples along the blade, fine veins, blisters, holes of salt."""
    x, y = grid(shape, texel)
    sway = 9.0 * noise(shape, 260 / texel, seed, 2)
    ripple = np.sin(2 * np.pi * (x + sway) / 31.0) + 0.45 * np.sin(2 * np.pi * (x + 1.7 * sway) / 17.0 + 1.3)
    along = noise((max(2, shape[0] // 6), shape[1]), 14 / texel, seed + 1, 4, 0.6)
    vein = np.asarray(_stretched(along, shape))
    blister = step(0.9, 1.7, noise(shape, 20 / texel, seed + 2, 3))
    grit = noise(shape, 4 / texel, seed + 3, 3)
    height = 1.5 * ripple + 0.5 * vein + 0.9 * blister + 0.06 * grit
    base = np.broadcast_to(srgb(88, 84, 36), (*shape, 3)) * np.exp(0.13 * vein + 0.06 * ripple + 0.04 * grit)[..., None]
    base = mix(base, np.broadcast_to(srgb(52, 58, 26), (*shape, 3)), step(-0.4, 1.6, noise(shape, 60 / texel, seed + 4, 3)) * 0.4)
    salt = step(1.9, 2.5, noise(shape, 26 / texel, seed + 5, 4)) * 0.55
    base = mix(base, np.broadcast_to(srgb(168, 164, 138), (*shape, 3)), salt)
    rough = np.clip(0.24 + 0.05 * vein + 0.45 * salt, 0.12, 1)
    return surface(height, base, rough, shape, texel)


def _stretched(plane: Array, shape: tuple[int, int]) -> Array:
    import cv2

    out: Array = cv2.resize(plane, (shape[1], shape[0]), interpolation=cv2.INTER_CUBIC)
    return out
