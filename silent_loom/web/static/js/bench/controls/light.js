// The light that a row takes out of a photo, and what is neutral grey in it.
import { el, picture as pictured, post } from "../../base/api.js";

export function lightPicture(controls) {
  const { state } = controls,
    picture = el("img", { class: "light-picture", alt: "The uneven light that is taken out" });
  return {
    node: el(
      "figure",
      { class: "cell-pictures one" },
      picture,
      el("figcaption", {}, "The light that is taken out; middle grey is even"),
    ),
    update() {
      const head = String(state.material.head),
        { row } = controls;
      if (picture.dataset.head === head || !row.on || row.idle) return;
      picture.dataset.head = head;
      const wanted = () => picture.isConnected && picture.dataset.head === head;
      pictured(`${state.path}/light.png?step_id=${row.id}&at=${head}`, wanted)
        .then(made => {
          if (made && wanted()) picture.src = made.src;
        })
        .catch(() => {
          /* the row says what is wrong */
        });
    },
  };
}

export function greyControls(controls) {
  const { state } = controls;
  const none = el(
    "button",
    {
      class: "act",
      type: "button",
      onclick: () => {
        controls.try({ grey: null });
        controls.settle();
      },
    },
    "As it was",
  );
  const ask = () => {
    const { row } = controls;
    state.pick({
      below: controls.above(row),
      words: "Press on something that is neutral grey.",
      take: async (u, v) => {
        const { light } = await post(`${state.path}/pick`, { below: row.id, u, v });
        await state.change({ kind: "settings", step_id: row.id, settings: { grey: light } });
      },
    });
  };
  const pick = el(
    "button",
    { class: "act edge", type: "button", id: "pick-grey", onclick: ask },
    "Pick a neutral grey",
  );
  return {
    node: el("div", { class: "d-flex gap-1 my-2" }, pick, none),
    update(v) {
      none.hidden = !v.grey;
    },
  };
}
