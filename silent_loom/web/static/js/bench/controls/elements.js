// Elements joined and cut by hand.
import { el } from "../../base/api.js";

export function editsControls(controls) {
  const { state } = controls,
    list = el("ol", { class: "layers", "aria-label": "Joined and cut by hand" });
  const two = (kind, first, second) => {
    const row = controls.row;
    let from = null;
    const take = async (u, v) => {
      if (!from) {
        from = [u, v];
        state.pick({ below: row.id, words: second, take });
        return;
      }
      // The shorter way round, so that a cut across the edge of the sheet is the one that was meant
      const near = (a, b) => b - Math.round(b - a);
      const points = [from, [near(from[0], u), near(from[1], v)]];
      await state.change({
        kind: "settings",
        step_id: row.id,
        settings: { edits: [...row.settings.edits, { kind, points }] },
      });
    };
    state.pick({ below: row.id, words: first, take });
  };
  const node = el(
    "div",
    { class: "my-2" },
    el(
      "div",
      { class: "d-flex gap-1" },
      el(
        "button",
        {
          class: "act edge",
          type: "button",
          id: "join-elements",
          onclick: () => two("join", "Press on an element.", "And on the one that belongs to it."),
        },
        "Join two",
      ),
      el(
        "button",
        {
          class: "act edge",
          type: "button",
          id: "cut-element",
          onclick: () => two("cut", "Press where the cut begins.", "And where it ends."),
        },
        "Cut one",
      ),
    ),
    list,
  );
  return {
    node,
    update(v) {
      list.replaceChildren(
        ...v.edits.map((e, i) =>
          el(
            "li",
            {},
            el("span", {}, `${e.kind === "join" ? "Joined" : "Cut"} ${i + 1}`),
            el(
              "button",
              {
                class: "act push",
                type: "button",
                "aria-label": `Take ${e.kind} ${i + 1} back`,
                onclick: () =>
                  state.change({
                    kind: "settings",
                    step_id: controls.row.id,
                    settings: { edits: v.edits.filter((_, k) => k !== i) },
                  }),
              },
              "×",
            ),
          ),
        ),
      );
    },
  };
}
