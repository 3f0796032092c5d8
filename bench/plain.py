"""The same steps as a script that anybody would write with numpy and OpenCV: what Silent Loom is held against."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np


def plain_set(pixels: np.ndarray, corners: np.ndarray, size: tuple[int, int], out: Path) -> None:
    """Straighten, even, cross-fade, height, normal, roughness, metallic, occlusion, six PNGs."""
    w, h = size
    n, m = round(w * 0.25), round(h * 0.25)
    target = np.array([[0, 0], [w + n - 1, 0], [w + n - 1, h + m - 1], [0, h + m - 1]], np.float32)
    matrix = cv2.getPerspectiveTransform(corners.astype(np.float32), target)
    srgb = pixels.astype(np.float32) / 255
    linear = np.where(srgb <= 0.04045, srgb / 12.92, ((srgb + 0.055) / 1.055) ** 2.4).astype(np.float32)
    sheet = cv2.warpPerspective(linear, matrix, (w + n, h + m), flags=cv2.INTER_CUBIC)
    y = np.log(np.maximum(sheet @ np.array([0.2126, 0.7152, 0.0722], np.float32), 1e-4))
    light = cv2.GaussianBlur(y, (0, 0), w / 6)
    sheet = sheet * np.exp(light.mean() - light)[..., None]
    t = np.linspace(0, 1, n, dtype=np.float32)[None, :, None]
    sheet = np.concatenate([sheet[:, :n] * t + sheet[:, w:] * (1 - t), sheet[:, n:w]], 1)
    t = np.linspace(0, 1, m, dtype=np.float32)[:, None, None]
    base = np.concatenate([sheet[:m] * t + sheet[h:] * (1 - t), sheet[m:h]], 0)
    encoded = np.where(base <= 0.0031308, base * 12.92, 1.055 * np.maximum(base, 1e-9) ** (1 / 2.4) - 0.055)
    grey = encoded @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    relief = sum(grey - cv2.GaussianBlur(grey, (0, 0), s) for s in (4, 16, 64))
    relief = (relief - relief.min()) / np.ptp(relief) * 10
    gx = (np.roll(relief, -1, 1) - np.roll(relief, 1, 1)) / 2
    gy = (np.roll(relief, -1, 0) - np.roll(relief, 1, 0)) / 2
    normal = np.stack([-gx, gy, np.ones_like(gx)], -1)
    normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
    seen = np.zeros_like(relief)
    for i in range(16):
        a = 2 * np.pi * i / 16
        steepest = np.zeros_like(relief)
        for k in range(1, 13):
            d = k * 5
            there = np.roll(relief, (-round(d * np.sin(a)), -round(d * np.cos(a))), (0, 1))
            np.maximum(steepest, (there - relief) / d, out=steepest)
        seen += 1 / (1 + steepest**2)
    maps = {
        "basecolor": np.clip(encoded[..., ::-1] * 255, 0, 255).astype(np.uint8),
        "normal": np.clip((normal[..., ::-1] * 0.5 + 0.5) * 65535, 0, 65535).astype(np.uint16),
        "height": np.clip(relief / 10 * 65535, 0, 65535).astype(np.uint16),
        "roughness": np.clip((0.8 - 0.35 * grey) * 255, 0, 255).astype(np.uint8),
        "metallic": np.zeros((h, w), np.uint8),
        "occlusion": np.clip(seen / 16 * 255, 0, 255).astype(np.uint8),
    }
    for name, values in maps.items():
        cv2.imwrite(str(out / f"{name}.png"), values)
