// How much of a row takes effect, how it meets what was there, and where.
import { el } from "../../base/api.js";
import { fitting, threadButton } from "./threadpick.js";

export function mixing(controls) {
  const { state } = controls,
    row = controls.row,
    group = row.group;
  const more = el(
    "details",
    { class: "more" },
    el("summary", {}, group ? "Amount and mask" : "Amount, " + "mix and mask"),
  );
  more.open = row.amount < 1 || row.mix !== "replace" || !!row.mask;
  const now = () => ({ amount: controls.row.amount, mix: controls.row.mix, mask: controls.row.mask });
  const send = values =>
    state.change({ kind: "mix", step_id: row.id, ...now(), ...(group ? { mix: null } : {}), ...values });
  const amount = el("input", {
    type: "number",
    min: 0,
    max: 100,
    step: 1,
    id: "set-amount",
    onchange: () => send({ amount: Math.max(0, Math.min(100, Number(amount.value) || 0)) / 100 }),
  });
  const mode = el(
    "select",
    { id: "set-mix", onchange: () => send({ mix: mode.value }) },
    ...state.mixes.map(m => el("option", {}, m)),
  );
  const masks = () => fitting(state, controls.row).filter(t => t.masks);
  const meaning = name => state.threads.find(t => t.name === name);
  const limit = threadButton(state, {
    id: "set-mask",
    label: "Limit to",
    chosen: row.mask?.thread || "",
    none: "everywhere",
    offered: () => ({ threads: masks(), above: controls.above(controls.row) }),
    take: name => {
      const t = meaning(name);
      send({
        mask: name ? { thread: name, low: t.kind === "data" ? t.low : 0, high: t.kind === "data" ? t.high : 1 } : null,
      });
    },
  });
  const change = values => send({ mask: { ...controls.row.mask, ...values } });
  const channel = el("select", { id: "mask-channel", onchange: () => change({ channel: channel.value }) });
  const inverted = el("input", {
    type: "checkbox",
    class: "form-check-input m-0",
    id: "mask-inverted",
    onchange: () => change({ inverted: inverted.checked }),
  });
  const number = (id, key) =>
    el("input", {
      type: "number",
      step: "any",
      id,
      onchange: e => {
        const v = Number(e.target.value);
        if (Number.isFinite(v) && v !== controls.row.mask[key === "low" ? "high" : "low"]) change({ [key]: v });
        else update();
      },
    });
  const low = number("mask-low", "low"),
    high = number("mask-high", "high"),
    units = [el("span", { class: "unit" }), el("span", { class: "unit" })];
  /** @type {(name: string, node: any, unit?: any) => HTMLElement} */
  const line = (name, node, unit = "") =>
    el(
      "div",
      { class: "control" },
      el("label", { for: node.id }, name),
      el("span", {}, node, unit instanceof Node ? unit : el("span", { class: "unit" }, unit)),
    );
  const seen = el("input", {
    type: "checkbox",
    class: "form-check-input m-0",
    id: "show-mask",
    checked: state.showMask === true,
    onchange: () => {
      state.showMask = seen.checked;
      state.emit("overlay");
    },
  });
  const where = el(
    "div",
    {},
    line("Channel", channel),
    line("Everywhere else instead", inverted),
    line("Nothing at", low, units[0]),
    line("All at", high, units[1]),
    line("Show it over the picture", seen),
  );
  // A mask by hand: a row above this one that makes it
  const marks = state.stepThat("mask");
  const paint =
    marks && !group
      ? el(
          "button",
          {
            class: "act edge my-1",
            type: "button",
            id: "paint-mask",
            title: "Adds a step above that makes a mask: with the brush, an outline, a tone or elements",
            onclick: async () => {
              const here = controls.row,
                taken = new Set(state.threads.map(t => t.name));
              let name = "mark";
              for (let k = 2; taken.has(name); k++) name = `mark_${k}`;
              const ids = state.threads.find(t => t.kind === "id" && t.made)?.name;
              const made = await state.add(marks, { name, ...(ids ? { ids } : {}) }, state.aboveOf(here));
              if (!made) return;
              await state.change({
                kind: "mix",
                step_id: here.id,
                amount: here.amount,
                mix: here.mix,
                mask: { thread: name, low: 0, high: 1 },
              });
              state.choose(made.id);
            },
          },
          "Paint a mask …",
        )
      : "";
  more.append(
    line("Amount", amount, " %"),
    ...(group ? [] : [line("Mix", mode)]),
    line("Limit to", limit.node),
    paint,
    where,
  );

  function update() {
    const { mask } = controls.row,
      t = mask && meaning(mask.thread);
    amount.value = Math.round(controls.row.amount * 100);
    mode.value = controls.row.mix;
    limit.show(mask?.thread || "");
    where.hidden = !mask;
    if (!mask) return;
    const names = t?.kind === "colour" ? ["", "r", "g", "b"] : ["", ..."rgba".slice(0, t?.channels || 1)];
    channel.replaceChildren(
      ...names.map(c =>
        el(
          "option",
          { value: c },
          {
            "": t?.kind === "colour" ? "lightness" : "the first",
            r: t?.kind === "colour" ? "red" : "first",
            g: t?.kind === "colour" ? "green" : "second",
            b: t?.kind === "colour" ? "blue" : "third",
            a: "fourth",
          }[c],
        ),
      ),
    );
    channel.value = mask.channel;
    channel.closest(".control").hidden = names.length < 3;
    channel.closest(".control").style.display = names.length < 3 ? "none" : "";
    inverted.checked = mask.inverted;
    low.value = +mask.low.toPrecision(6);
    high.value = +mask.high.toPrecision(6);
    for (const u of units) u.textContent = t?.unit ? ` ${t.unit}` : "";
  }
  return { node: more, update };
}
