// Variations: a sheet over seeds and dials, compared large, kept or dropped; what lies between two of them. And the
// weave kept as a recipe.
import { el, get, picture, post } from "../../base/api.js";
import { openSheet } from "./dock.js";

export function startVariations(state, say) {
  const $ = id => document.getElementById(id),
    sheet = $("variations-sheet"),
    grid = $("variation-grid");
  let entry = 0,
    made = [],
    first = 1,
    large = null,
    marked = [],
    turn = 0,
    titles = {};

  $("variations").addEventListener("click", async () => {
    const asking = [$("variation-ask"), $("variation-more")];
    for (const press of asking) press.disabled = true; // until what can vary is known, a press would ask for nothing
    openSheet(sheet);
    try {
      const about = await get(`${state.path}/variations`);
      $("variation-dials").replaceChildren(
        ...about.dials.map(d =>
          el("label", { class: "line" }, el("input", { type: "checkbox", value: d.id, "data-dial": d.name }), d.title),
        ),
      );
      titles = Object.fromEntries(about.dials.map(d => [d.id, d]));
      $("variation-seeds").disabled = !about.seeds;
      $("variation-seeds").checked = about.seeds;
      $("variation-none").hidden = about.dials.length > 0 || about.seeds;
      for (const press of asking) press.disabled = !$("variation-none").hidden;
    } catch (error) {
      say(error.message);
    }
  });

  // How far a dial is from where it stands now, in plain words
  const differs = (dial, n) => {
    if (!dial || dial.value == null || dial.high == null) return "";
    const part = (n - dial.value) / Math.max(1e-9, dial.high - dial.low);
    return Math.abs(part) < 0.03
      ? " (as now)"
      : ` (${Math.abs(part) > 0.3 ? "much " : ""}${part > 0 ? "more" : "less"})`;
  };
  const address = (v, size) =>
    `${state.path}/variation.png?entry=${entry}&size=${size}&choice=` +
    `${encodeURIComponent(JSON.stringify({ seed: v.seed, dials: v.dials, other: v.other, share: v.share }))}`;
  const words = v =>
    v.other
      ? `${Math.round(100 * v.share)} %`
      : `${v.seed ? `seed ${v.seed}` : "same seed"}${
          Object.keys(v.dials).length
            ? `, ${Object.entries(v.dials)
                .map(([id, n]) => `${titles[id]?.title || ""} ${n.toFixed(2)}${differs(titles[id], n)}`.trim())
                .join(", ")}`
            : ""
        }`;

  async function ask() {
    const mine = ++turn;
    await state.queue;
    try {
      const told = await post(`${state.path}/variations`, {
        count: +$("variation-count").value,
        dials: [...$("variation-dials").querySelectorAll("input:checked")].map(i => i.value),
        spread: +$("variation-spread").value,
        seeds: $("variation-seeds").checked,
        first,
      });
      if (mine !== turn) return;
      entry = told.entry;
      made = told.variants;
      first += made.length;
      marked = [];
      show();
    } catch (error) {
      say(error.message);
    }
  }

  const drop = v => {
    grid.children[made.indexOf(v)]?.remove();
    made = made.filter(m => m !== v);
    marked = marked.filter(m => m !== v);
    between();
  };

  function tile(v) {
    const look = el("span", { class: "waiting" });
    const press = el(
      "button",
      { class: "pattern", type: "button", title: "See it large", onclick: () => enlarge(v) },
      look,
      el("span", {}, words(v)),
    );
    const node = el(
      "div",
      { class: "variation", "data-seed": v.seed },
      press,
      el(
        "div",
        { class: "line" },
        el(
          "button",
          { class: "act", type: "button", title: "Drop it from this sheet", onclick: () => drop(v) },
          "Drop",
        ),
        el(
          "label",
          { class: "quiet push", title: "Mark two to see what lies between them" },
          el("input", {
            type: "checkbox",
            "aria-label": `Mark ${words(v)}`,
            onchange: e => {
              marked = e.target.checked ? [...marked, v] : marked.filter(m => m !== v);
              between();
            },
          }),
          " mark",
        ),
      ),
    );
    picture(address(v, "small"), () => made.includes(v))
      .then(image => {
        if (image) {
          look.replaceWith(image);
          drawn();
        }
      })
      .catch(error => {
        look.textContent = error.message;
      });
    return node;
  }
  const drawn = () => {
    const waiting = grid.querySelectorAll(".waiting").length;
    grid.dataset.waiting = String(waiting);
    $("variation-state").textContent = waiting ? `${made.length - waiting} of ${made.length} drawn …` : "";
  };

  function show() {
    grid.replaceChildren(...made.map(tile));
    drawn();
    between();
  }

  function between() {
    $("variation-between").disabled = marked.length !== 2;
  }
  $("variation-between").addEventListener("click", () => {
    const [a, b] = marked;
    made = [
      a,
      ...[0.2, 0.4, 0.6, 0.8].map(share => ({
        seed: a.seed,
        dials: a.dials,
        other: { seed: b.seed, dials: b.dials },
        share,
      })),
      b,
    ];
    marked = [];
    show();
  });

  const sheetLarge = $("variation-large");
  async function enlarge(v) {
    large = v;
    if (!sheetLarge.open) sheetLarge.showModal();
    $("variation-words").textContent = words(v);
    $("variation-said").textContent = "";
    delete $("variation-picture").dataset.whole;
    const small = grid.children[made.indexOf(v)]?.querySelector("img");
    if (small) $("variation-picture").src = small.src;
    $("variation-now").src = address({ seed: 0, dials: {} }, "large");
    const image = await picture(address(v, "large"), () => large === v).catch(error => {
      say(error.message);
      return null;
    });
    if (image && large === v) {
      $("variation-picture").src = image.src;
      $("variation-picture").dataset.whole = words(v);
    }
  }
  const beside = by => {
    if (made.length) enlarge(made[(made.indexOf(large) + by + made.length) % made.length]);
  };
  $("variation-back").addEventListener("click", () => beside(-1));
  $("variation-next").addEventListener("click", () => beside(1));
  sheetLarge.addEventListener("keydown", e => {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
    if (by) {
      e.preventDefault();
      beside(by);
    }
  });
  $("variation-close").addEventListener("click", () => sheetLarge.close());
  $("variation-drop").addEventListener("click", () => {
    const gone = large;
    if (made.length > 1) beside(1);
    else sheetLarge.close();
    drop(gone);
  });

  async function keep(anew) {
    if (!large) return;
    try {
      const after = await post(`${state.path}/variation`, {
        entry,
        seed: large.seed,
        dials: large.dials,
        other: large.other || null,
        share: large.share || 0,
        anew,
      });
      if (anew) {
        $("variation-said").textContent = `Kept as “${after.name}” in the library.`;
        return;
      }
      sheetLarge.close();
      state.take(after);
      say("Kept; Undo takes it back.");
    } catch (error) {
      $("variation-said").textContent = error.message;
    }
  }
  $("variation-keep").addEventListener("click", () => keep(false));
  $("variation-anew").addEventListener("click", () => keep(true));
  $("variation-spread").addEventListener("input", e =>
    e.target.style.setProperty("--at", `${(100 * (e.target.value - 0.1)) / 0.9}%`),
  );
  $("variation-ask").addEventListener("click", () => {
    first = 1;
    ask();
  });
  $("variation-more").addEventListener("click", ask);

  // --- the weave as a recipe -------------------------------------------------------------------------------
  const told = $("recipe-told");
  async function followed() {
    try {
      const f = await get(`${state.path}/follows`);
      told.textContent = !f.recipe
        ? ""
        : f.version < f.newest
          ? `Made of the recipe ${f.recipe}, version ${f.version}; it is at ${f.newest} now.`
          : `Made of the recipe ${f.recipe}.`;
      $("recipe-follow").hidden = !f.recipe || f.version >= f.newest;
      if (f.recipe && !$("save-title").value) $("save-title").value = f.recipe;
    } catch {
      told.textContent = "";
    }
  }
  $("save-recipe").addEventListener("click", () => {
    openSheet($("save-sheet"));
    if (!$("save-title").value) $("save-title").value = "";
    followed();
  });
  $("save-go").addEventListener("click", async () => {
    try {
      await state.queue;
      const kept = await post(`${state.path}/recipe`, {
        title: $("save-title").value,
        says: $("save-says").value,
        words: $("save-words").value,
      });
      const behind = kept.behind
        ? ` ${kept.behind} material${kept.behind === 1 ? "" : "s"} made of it can be brought up to it in the library.`
        : "";
      const takes = kept.photos ? (kept.photos === 1 ? "a photo" : `${kept.photos} photos`) : "no photo";
      told.textContent = `Kept as the recipe ${kept.title}: it takes ${takes}, ${kept.dials.length} dials.${behind}`;
      told.dataset.kept = kept.name;
    } catch (error) {
      say(error.message);
    }
  });
  $("recipe-follow").addEventListener("click", async () => {
    try {
      state.take(await post(`${state.path}/follow`));
      followed();
      say("Brought up to the recipe; Undo takes it back.");
    } catch (error) {
      say(error.message);
    }
  });
}
