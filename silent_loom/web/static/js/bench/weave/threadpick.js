// Which thread a setting means: a button with its picture, and a sheet of pictures to choose from.
import { el, picture as pictured } from "../../base/api.js";

// A button that shows the chosen thread and opens a sheet of those that fit.
// `offered` gives { threads, also: [[value, words]], above: id of the row whose maps are shown }.
export function threadButton(state, { id = "", label, chosen, offered, take, none = "" }) {
  const picture = el("img", { alt: "", hidden: true, width: 22, height: 22 }),
    words = el("span", {});
  const button = el(
    "button",
    {
      class: "act edge thread-button",
      type: "button",
      id,
      "aria-haspopup": "listbox",
      "aria-label": label,
      onclick: () => open(),
    },
    picture,
    words,
  );
  let value = chosen,
    sheet = null;

  const titleOf = name => state.threads.find(t => t.name === name)?.title || name.replaceAll("_", " ");
  function show(next) {
    value = next;
    const also = offered().also?.find(([v]) => v === value);
    words.textContent = value ? (also ? also[1] : titleOf(value)) : none;
    button.dataset.value = value || "";
    const thread = state.threads.find(t => t.name === value);
    if (thread) button.dataset.dye = thread.dye;
    else delete button.dataset.dye;
    picture.hidden = true;
    if (value && !also) setTimeout(() => load(picture, value, 48)); // once it is on the page
  }
  async function load(into, thread, size) {
    const above = offered().above,
      head = state.material.head;
    if (!above) return;
    try {
      const made = await pictured(
        `${state.path}/map/${thread}.png?size=${size}&below=${above}&entry=${head}`,
        () => into.isConnected,
      );
      if (made && into.isConnected) {
        into.src = made.src;
        into.hidden = false;
      }
    } catch {
      /* what is wrong is said at its row */
    }
  }
  function close(back) {
    removeEventListener("pointerdown", away);
    sheet?.remove();
    sheet = null;
    if (back) button.focus();
  }
  const away = e => {
    if (!sheet?.contains(e.target) && !button.contains(e.target)) close(false);
  };
  function open() {
    if (sheet) {
      close(true);
      return;
    }
    const { threads, also = [] } = offered();
    const item = (v, title, thread) => {
      const img = el("img", { alt: "", hidden: true, width: 84, height: 84 });
      const node = el(
        "button",
        {
          class: "thread-item",
          type: "button",
          role: "option",
          "aria-selected": v === (value || ""),
          "data-value": v,
          ...(thread ? { "data-dye": thread.dye } : {}),
          onclick: () => {
            close(true);
            if (v !== (value || "")) {
              show(v);
              take(v);
            }
          },
        },
        el("span", { class: "swatch" }, img),
        el("span", {}, title),
      );
      if (thread) queueMicrotask(() => load(img, v, 96));
      return node;
    };
    sheet = el(
      "div",
      { class: "thread-sheet", role: "listbox", "aria-label": label },
      ...(none ? [item("", none)] : []),
      ...also.map(([v, title]) => item(v, title)),
      ...threads.map(t => item(t.name, t.title, t)),
    );
    sheet.addEventListener("keydown", e => {
      const all = [...sheet.querySelectorAll("[role=option]")],
        at = all.indexOf(document.activeElement);
      const by = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[e.key];
      if (by) all[(at + by + all.length) % all.length].focus();
      else if (e.key === "Escape") close(true);
      else return;
      e.preventDefault();
      e.stopPropagation();
    });
    (button.closest("dialog, aside, main") || document.body).append(sheet);
    const place = button.getBoundingClientRect();
    sheet.style.left = `${Math.max(8, Math.min(place.left, innerWidth - sheet.offsetWidth - 8))}px`;
    sheet.style.top = `${Math.max(8, Math.min(place.bottom + 3, innerHeight - sheet.offsetHeight - 8))}px`;
    setTimeout(() => {
      if (sheet) addEventListener("pointerdown", away);
    });
    (sheet.querySelector("[aria-selected=true]") || sheet.querySelector("[role=option]"))?.focus();
  }
  show(value);
  return { node: button, show };
}

// The threads above a row that a setting can do with
export function fitting(state, row, kinds = []) {
  const above = new Set(row.above || []);
  return state.threads.filter(t => above.has(t.name) && (!kinds.length || kinds.includes(t.kind)));
}

// The control of a setting that names a thread
export function threadControl(controls, field, box, { id, label, reset, says }) {
  const { state } = controls;
  if (field.new) {
    // what the step makes: any name will do
    const text = el("input", {
      id,
      type: "text",
      maxlength: 60,
      spellcheck: "false",
      autocomplete: "off",
      onchange: () => {
        const name =
          text.value
            .trim()
            .toLowerCase()
            .replace(/[^a-z0-9_]+/g, "_")
            .replace(/^[0-9_]+|_+$/g, "") || field.default;
        text.value = name;
        controls.try({ [field.name]: name });
        controls.settle();
      },
    });
    box.append(label, text, reset, says);
    return v => {
      text.value = v;
    };
  }
  const pick = threadButton(state, {
    id,
    label: field.title,
    chosen: controls.settings[field.name],
    offered: () => ({
      threads: fitting(state, controls.row, field.kinds),
      also: (field.also || []).map(v => [v, field.names[v] || v]),
      above: controls.above(controls.row),
    }),
    take: v => {
      controls.try({ [field.name]: v });
      controls.settle();
    },
  });
  box.append(label, pick.node, reset, says);
  return pick.show;
}
