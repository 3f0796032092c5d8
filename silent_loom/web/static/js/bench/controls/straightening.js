// Corners of what is straightened, whole repeats within them, and further rectangles on the same photo.
import { el, post } from "../../base/api.js";

export function cornersControls(controls, field) {
  const { state } = controls,
    why = el("div", { class: "note", hidden: true });
  let cropped = "";
  const place = el(
    "button",
    { class: "act edge", type: "button", id: "place-corners", onclick: () => state.emit("corners", field) },
    "Place corners",
  );
  const whole = el(
    "button",
    {
      class: "act",
      type: "button",
      onclick: () => {
        controls.try({ corners: null });
        controls.settle();
      },
    },
    "Whole photo",
  );
  const crop = async () => {
    repeats.disabled = true;
    state.emit("saving");
    await state.after(
      async () => {
        try {
          const made = await post(`${state.path}/whole-repeats`);
          cropped = made.why;
          return made;
        } catch (error) {
          cropped = "";
          throw error;
        } finally {
          repeats.disabled = false;
        }
      },
      { asks: true },
    );
  };
  const repeats = el(
    "button",
    {
      class: "act",
      type: "button",
      id: "whole-repeats",
      onclick: crop,
      title: "Moves the corners to as many whole repeats of the motif as fit",
    },
    "Crop to whole repeats",
  );
  return {
    node: el("div", {}, el("div", { class: "d-flex gap-1 my-2 flex-wrap" }, place, whole, repeats), why),
    update() {
      why.hidden = !cropped;
      why.textContent = cropped;
    },
  };
}

export function rectanglesControls(controls) {
  const node = el("div", { class: "d-flex gap-1 my-1 flex-wrap" });
  const lay = values => {
    controls.try(values);
    controls.settle();
  };
  const swap = (v, i) => {
    const others = [...v.others],
      next = others.splice(i, 1)[0];
    if (v.corners) others.push(v.corners);
    lay({ corners: next, others });
  };
  const second = v =>
    el(
      "button",
      {
        class: "act",
        type: "button",
        id: "keep-rectangle",
        title: "Keep this rectangle and mark another one on the same photo",
        onclick: () => {
          lay({ others: [...v.others, v.corners] });
          controls.state.emit("corners");
        },
      },
      "Mark a second rectangle",
    );
  return {
    node,
    update(v) {
      const others = v.others.map((_, i) =>
        el("button", { class: "act edge", type: "button", onclick: () => swap(v, i) }, `Rectangle ${i + 1}`),
      );
      node.replaceChildren(...others, ...(v.corners ? [second(v)] : []));
    },
  };
}
