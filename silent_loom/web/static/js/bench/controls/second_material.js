// A second material, or a photo, laid over this one.
import { el, get, post, send } from "../../base/api.js";

export function overControls(controls) {
  const { state } = controls,
    says = el("div", { class: "note" });
  const list = el("select", { id: "second-material", "aria-label": "Second material" });
  const work = make => {
    says.textContent = "Bringing it in …";
    state.emit("saving");
    return state.after(make);
  };
  const photo = picked => {
    const form = new FormData();
    form.append("photo", picked, picked.name || "pasted.png");
    form.append("step_id", controls.row.id);
    return work(() => send(`${state.path}/lay-over-photo`, form));
  };
  const file = el("input", {
    type: "file",
    class: "d-none",
    "aria-label": "Second photo",
    onchange: () => file.files[0] && photo(file.files[0]),
  });
  const lay = () =>
    list.value && work(() => post(`${state.path}/lay-over`, { step_id: controls.row.id, material: list.value }));
  const bring = el("button", { class: "act edge", type: "button", id: "lay-over", onclick: lay }, "Lay it over");
  get("/api/materials")
    .then(({ materials }) => {
      const others = materials.filter(m => m.id !== state.ident);
      list.replaceChildren(...others.map(m => el("option", { value: m.id }, m.name)));
    })
    .catch(() => {
      says.textContent = "The library cannot be read just now.";
    });
  const node = el(
    "div",
    { class: "my-2" },
    says,
    el("div", { class: "control" }, el("label", { for: "second-material" }, "Material"), list),
    el(
      "div",
      { class: "d-flex gap-1" },
      bring,
      el("button", { class: "act edge", type: "button", onclick: () => file.click() }, "A photo …"),
    ),
    file,
  );
  return {
    node,
    update(v) {
      const names = v.maps.map(m => state.weave.sources?.[m.source] || m.thread);
      const more = names.length > 2 ? ` and ${names.length - 2} more` : "";
      says.textContent = names.length
        ? `Second: ${names.slice(0, 2).join(", ")}${more}`
        : "Choose what is laid over this material.";
    },
  };
}
