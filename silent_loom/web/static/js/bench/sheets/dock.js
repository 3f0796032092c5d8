// Sheets that speak of the picture lie beside it: it stays visible and live. One at a time; Escape closes it.
export function openSheet(sheet) {
  for (const other of document.querySelectorAll("#dock dialog[open]")) if (other !== sheet) other.close();
  if (!sheet.open) sheet.show();
  document.getElementById("bench").classList.add("docked");
}

export function closeSheet(sheet) {
  if (sheet.open) sheet.close();
}

export function startDock() {
  const dock = document.getElementById("dock"),
    bench = document.getElementById("bench");
  let from = null;
  for (const sheet of dock.querySelectorAll("dialog")) {
    sheet.addEventListener("close", () => {
      bench.classList.toggle("docked", !!dock.querySelector("dialog[open]"));
      if (!dock.querySelector("dialog[open]") && from?.isConnected && dock.contains(document.activeElement))
        from.focus();
    });
    sheet.querySelector("[data-close]")?.addEventListener("click", () => sheet.close());
  }
  document.querySelector(".head").addEventListener("click", e => {
    from = e.target.closest("button") || from;
  });
  addEventListener("keydown", e => {
    const open = dock.querySelector("dialog[open]");
    if (e.key !== "Escape" || !open || document.querySelector("dialog:modal, .palette")) return;
    open.close();
    from?.focus();
    e.preventDefault();
  });
}

// A border that is dragged: the side, the weave, the strip. Sizes are kept for this browser
export function startBorders() {
  const bench = document.getElementById("bench");
  const limits = { side: [236, 520], weave: [120, 620], strip: [100, 320] };
  for (const name of Object.keys(limits)) {
    const stored = +localStorage.getItem(`loom-${name}`);
    if (stored) bench.style.setProperty(`--${name}`, `${clamp(stored, name)}px`);
  }
  function clamp(v, name) {
    const [low, high] = limits[name],
      most = { side: innerWidth - 420, weave: innerHeight - 240, strip: innerHeight - 300 }[name];
    return Math.round(Math.max(low, Math.min(high, Math.max(low, most), v)));
  }
  for (const border of document.querySelectorAll("[data-border]")) {
    const name = border.dataset.border;
    const now = () =>
      ({
        side: document.querySelector(".side").offsetWidth,
        weave: document.getElementById("weave").offsetHeight,
        strip: document.getElementById("strip").offsetHeight,
      })[name];
    const set = v => {
      const size = clamp(v, name);
      bench.style.setProperty(`--${name}`, `${size}px`);
      localStorage.setItem(`loom-${name}`, String(size));
      border.setAttribute("aria-valuenow", String(size));
    };
    border.addEventListener("pointerdown", e => {
      e.preventDefault();
      border.setPointerCapture(e.pointerId);
      const start = now(),
        x = e.clientX,
        y = e.clientY;
      const move = m => set(start + { side: m.clientX - x, weave: m.clientY - y, strip: y - m.clientY }[name]);
      border.addEventListener("pointermove", move);
      border.addEventListener("pointerup", () => border.removeEventListener("pointermove", move), { once: true });
    });
    border.addEventListener("dblclick", () => {
      localStorage.removeItem(`loom-${name}`);
      bench.style.removeProperty(`--${name}`);
    });
    border.addEventListener("keydown", e => {
      const by = {
        ArrowLeft: -16,
        ArrowRight: 16,
        ArrowUp: name === "strip" ? 16 : -16,
        ArrowDown: name === "strip" ? -16 : 16,
      }[e.key];
      if (by) {
        e.preventDefault();
        set(now() + by);
      }
    });
    border.setAttribute("aria-valuenow", now());
    border.setAttribute("aria-valuemin", limits[name][0]);
    border.setAttribute("aria-valuemax", limits[name][1]);
  }
}
