// The model that a material lies on: one of the library's, or a file; which of its UV sets; and what it holds.
import { el, get, post, send } from "../../base/api.js";

export function modelControls(controls) {
  const { state } = controls,
    says = el("div", { class: "note" });
  const list = el("select", { id: "under-model", "aria-label": "Model" });
  let known = "";
  const put = model => {
    says.textContent = "Reading the model …";
    state.emit("saving");
    return state.after(() =>
      post(`${state.path}/model`, { model, base: state.material.head, step_id: controls.row.id }),
    );
  };
  const added = async picked => {
    const form = new FormData();
    form.append("model", picked, picked.name || "model.glb");
    says.textContent = "Reading the model …";
    try {
      const made = await send("/api/models", form);
      await fill();
      await put(made.id);
    } catch (error) {
      says.textContent = error.message;
    }
  };
  const file = el("input", {
    type: "file",
    class: "d-none",
    accept: ".obj,.glb,.gltf,.ply,.stl",
    "aria-label": "Model file",
    onchange: () => {
      const picked = file.files[0];
      file.value = "";
      if (picked) added(picked);
    },
  });
  const fill = async () => {
    const { models } = await get("/api/models");
    list.replaceChildren(...models.map(m => el("option", { value: m.id }, m.name)));
    take.disabled = !models.length;
    const now = models.find(m => m.name === state.weave.sources?.[known]);
    if (now) list.value = now.id;
  };
  const take = el(
    "button",
    {
      class: "act edge",
      type: "button",
      id: "put-under",
      disabled: true,
      onclick: () => list.value && put(list.value),
    },
    "Lay it on",
  );
  fill().catch(() => {
    says.textContent = "The models cannot be read just now.";
  });
  const node = el(
    "div",
    { class: "my-2" },
    says,
    el("div", { class: "control" }, el("label", { for: "under-model" }, "Model"), list),
    el(
      "div",
      { class: "d-flex gap-1" },
      take,
      el("button", { class: "act edge", type: "button", onclick: () => file.click() }, "A file …"),
      el("a", { class: "act edge", href: "/models" }, "Check UVs …"),
    ),
    file,
  );
  const about = async digest => {
    known = digest;
    const name = state.weave.sources?.[digest] || "this model";
    says.textContent = name;
    try {
      const parts = await get(`/api/models/of/${digest}`);
      if (known !== digest) return;
      says.textContent = `${name}: ${parts.triangles.toLocaleString()} triangles, UVs ${parts.uv_sets.join(", ")}`;
    } catch (error) {
      if (known === digest) says.textContent = error.message;
    }
  };
  return {
    node,
    update({ model }) {
      if (!model) {
        known = "";
        says.textContent = "Choose the model that this material is laid on.";
      } else if (model !== known) about(model);
    },
  };
}
