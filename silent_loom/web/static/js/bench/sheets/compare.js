// Snapshots, and two states held against each other on every picture of the table.
import { el, get, picture, post, since } from "../../base/api.js";
import { openSheet } from "./dock.js";

const WAYS = { wipe: "Wipe", beside: "Side by side", blink: "Blink", difference: "Difference" };
const NOW = { kind: "now" };

export function startCompare(state, say) {
  const $ = id => document.getElementById(id),
    sheet = $("compare-sheet"),
    list = $("snapshots"),
    table = $("differences");
  let kept = [],
    others = [],
    asked = 0,
    timer = 0;
  const calm = matchMedia("(prefers-reduced-motion: reduce)");
  const same = (a, b) => JSON.stringify(a) === JSON.stringify(b);

  $("compare").addEventListener("click", () => open());
  const open = async () => {
    openSheet(sheet);
    await Promise.all([snapshots(), materials()]);
    sides();
  };
  const end = () => {
    clearInterval(timer);
    state.hold(null);
    draw();
  };

  // --- snapshots -------------------------------------------------------------------------------------------
  async function snapshots() {
    try {
      kept = (await get(`${state.path}/snapshots`)).snapshots;
    } catch (error) {
      say(error.message);
    }
    list.replaceChildren(...kept.map(line));
    if (!kept.length)
      list.append(
        el("li", { class: "quiet" }, "None yet. A snapshot gives the state that you see a name; it costs nothing."),
      );
  }

  function line(s) {
    const look = el("span", { class: "swatch" }),
      name = el("input", {
        type: "text",
        value: s.name,
        "aria-label": "Name of the snapshot",
        maxlength: 200,
        onchange: async () => {
          try {
            s.name = (await post(`${state.path}/snapshots/${s.id}/rename`, { name: name.value })).name;
            sides();
          } catch (error) {
            say(error.message);
          }
          name.value = s.name;
        },
      });
    picture(`${state.path}/state.png?entry=${s.entry}`, () => sheet.open)
      .then(made => {
        if (made) look.replaceChildren(made);
      })
      .catch(() => {
        /* nothing is made in it */
      });
    return el(
      "li",
      { "data-snapshot": s.id },
      look,
      el(
        "div",
        {},
        name,
        el("small", { class: "quiet" }, since(s.created)),
        el(
          "div",
          { class: "line" },
          el(
            "button",
            {
              class: "act edge",
              type: "button",
              onclick: () => begin({ kind: "snapshot", entry: s.entry, name: s.name }),
            },
            "Compare",
          ),
          el(
            "button",
            {
              class: "act edge",
              type: "button",
              title: "Make it the present state; what there is now stays in the history",
              onclick: () => state.goTo(s.entry),
            },
            "Go to",
          ),
          el(
            "button",
            {
              class: "act",
              type: "button",
              "aria-label": `Forget ${s.name}`,
              title: "Forget the name; the state stays in the history",
              onclick: async () => {
                try {
                  await fetch(`${state.path}/snapshots/${s.id}`, { method: "DELETE" });
                  await snapshots();
                  sides();
                } catch (error) {
                  say(error.message);
                }
              },
            },
            "Forget",
          ),
        ),
      ),
    );
  }

  $("snapshot").addEventListener("click", () => keep());
  async function keep() {
    try {
      await state.queue;
      const made = await post(`${state.path}/snapshots`, { name: $("snapshot-name").value });
      $("snapshot-name").value = "";
      say(`Kept as “${made.name}”.`);
      if (sheet.open) {
        await snapshots();
        sides();
      }
    } catch (error) {
      say(error.message);
    }
  }
  $("snapshot-name").addEventListener("keydown", e => {
    if (e.key === "Enter") keep();
  });

  // --- sides -----------------------------------------------------------------------------------------------
  async function materials() {
    others = await get("/api/materials")
      .then(r => r.materials.filter(m => m.id !== state.ident && !m.broken))
      .catch(() => []);
  }

  function choices() {
    const rows = state.rows.filter(r => !r.resting);
    return [
      ["", [[NOW, "Now"]]],
      ["Snapshots", kept.map(s => [{ kind: "snapshot", entry: s.entry, name: s.name }, s.name])],
      [
        "Before the last change",
        state.material.parent
          ? [
              [
                { kind: "snapshot", entry: state.material.parent, name: "Before the last change" },
                "Before the last change",
              ],
            ]
          : [],
      ],
      ["A step off", rows.map(r => [{ kind: "off", row: r.id }, `Without ${r.title}`])],
      ["Another material", others.map(m => [{ kind: "material", id: m.id, name: m.name }, m.name])],
    ];
  }

  function sides() {
    for (const key of ["a", "b"]) {
      const field = $(`side-${key}`),
        groups = choices(),
        flat = groups.flatMap(([, list]) => list.map(([side]) => side)),
        now = state.compare?.[key] || (key === "a" ? NOW : null);
      field.replaceChildren(
        ...(now ? [] : [el("option", { value: "" }, "choose …")]),
        ...groups
          .filter(([, list]) => list.length)
          .map(([title, list]) => {
            const made = list.map(([side, words]) =>
              el("option", { value: flat.indexOf(side), selected: same(side, now) }, words),
            );
            return title ? el("optgroup", { label: title }, ...made) : made[0];
          }),
      );
      field.onchange = () => {
        if (field.value === "") return;
        const chosen = flat[+field.value],
          other = state.compare || { a: NOW, b: NOW, way: "wipe", at: 0.5 };
        state.hold({ ...other, [key]: chosen });
        draw();
      };
    }
    draw();
  }

  function begin(other) {
    state.hold({
      a: state.compare?.a || NOW,
      b: other,
      way: state.compare?.way || "wipe",
      at: state.compare?.at ?? 0.5,
    });
    sides();
  }

  $("ways").replaceChildren(
    ...Object.entries(WAYS).map(([way, title]) =>
      el(
        "button",
        {
          class: "act",
          type: "button",
          role: "radio",
          "data-way": way,
          onclick: () => {
            if (state.compare) state.hold({ ...state.compare, way });
            draw();
          },
        },
        title,
      ),
    ),
  );
  $("wipe-at").addEventListener("input", () => state.wipe(+$("wipe-at").value));
  $("blink-now").addEventListener("click", () => state.blink());
  $("compare-end").addEventListener("click", () => end());
  // The slider follows when the hand rests: drawing it costs more than the wipe
  let following = 0;
  state.on("wipe", () => {
    clearTimeout(following);
    following = setTimeout(() => {
      if (state.compare) $("wipe-at").value = state.compare.at;
    }, 120);
  });

  function draw() {
    const on = state.compare;
    clearInterval(timer);
    for (const b of $("ways").children) {
      b.setAttribute("aria-checked", on?.way === b.dataset.way);
      b.disabled = !on;
    }
    $("wipe-line").hidden = on?.way !== "wipe";
    $("blink-line").hidden = on?.way !== "blink";
    $("compare-end").disabled = !on;
    $("compare").setAttribute("aria-pressed", !!on); // it goes on when the sheet is closed: there is more room then
    if (on?.way === "blink" && !calm.matches)
      timer = setInterval(() => {
        if (!document.hidden) state.blink();
      }, 800);
    numbers();
  }
  state.on("material", () => {
    if (sheet.open) {
      sides();
    }
  });

  // How far both are apart, map by map; one question after another
  async function numbers() {
    const turn = ++asked,
      on = state.compare;
    if (!on || same(on.a, on.b)) {
      table.replaceChildren();
      return;
    }
    await new Promise(r => setTimeout(r, 300));
    if (turn !== asked || state.draft) return;
    const body = table.querySelector("tbody") || el("tbody"),
      said = new Map();
    table.replaceChildren(
      el(
        "thead",
        {},
        el("tr", {}, ...["Map", "mean", "95 " + "%", "most", "RMSE"].map(w => el("th", { scope: "col" }, w))),
      ),
      body,
    );
    body.replaceChildren();
    for (const t of state.threads.filter(t => t.made)) {
      if (turn !== asked) return;
      try {
        const response = await fetch(`${state.path}/difference`, {
          method: "POST",
          headers: { "content-type": "application/json" },
          body: JSON.stringify({ thread: t.name, size: 512, one: state.sideOf(on.a), other: state.sideOf(on.b) }),
        });
        if (!response.ok) {
          body.append(
            el("tr", {}, el("th", { scope: "row" }, t.title), el("td", { colspan: 4, class: "quiet" }, "not in both")),
          );
          continue;
        }
        if (turn !== asked) return;
        said.set(t.name, JSON.parse(response.headers.get("x-facts")));
      } catch {
        return;
      }
      const f = said.get(t.name),
        n = v => (v === 0 ? "0" : v < 0.01 ? "< 0.01" : v < 10 ? v.toFixed(2) : v.toFixed(1)),
        unit = { degrees: "°", "of all": "" }[f.measure] ?? ` ${f.measure}`;
      body.append(
        el(
          "tr",
          { "data-map": t.name },
          el("th", { scope: "row" }, t.title),
          ...[f.mean, f.p95, f.max].map(v => el("td", {}, `${n(v)}${v ? unit : ""}`)),
          el("td", {}, f.measure === "ΔE00" ? `${n(f.rmse)} codes` : n(f.rmse)),
        ),
      );
    }
    table.dataset.whole = String(turn);
  }
  return { open, keep };
}
