// What is odd about a map: explained, and mended in one press.
import { el, get, post } from "../../base/api.js";
import { openSheet } from "./dock.js";

export function startOdd(state) {
  const sheet = document.getElementById("odd-sheet"),
    body = document.getElementById("odd-body"),
    title = document.getElementById("odd-title");
  let shown = "";
  const load = async thread => {
    shown = thread;
    const meaning = state.threads.find(t => t.name === thread);
    title.textContent = meaning?.title || thread;
    body.replaceChildren(el("p", { class: "quiet" }, "Looking …"));
    try {
      const found = await get(`${state.path}/odd/${thread}`);
      if (shown !== thread) return;
      body.replaceChildren(
        ...(found.odd.length ? found.odd : [null]).map(o =>
          o
            ? el(
                "article",
                { class: "finding", "data-check": o.check },
                el("h3", {}, o.words),
                el("p", {}, o.says),
                o.mend
                  ? el(
                      "button",
                      {
                        class: "act edge",
                        type: "button",
                        "data-mend": o.check,
                        onclick: e => mend(e.currentTarget, thread, o.check),
                      },
                      o.mend,
                    )
                  : null,
              )
            : el("p", {}, "Nothing is odd about it."),
        ),
      );
    } catch (e) {
      body.replaceChildren(el("p", { class: "note warn" }, e.message));
    }
  };
  const mend = async (button, thread, check) => {
    button.disabled = true;
    state.emit("saving");
    let row = "";
    await state.after(async () => {
      const made = await post(`${state.path}/mend`, { thread, check });
      row = made.step_id;
      return made;
    });
    if (row && state.row(row)) state.choose(row);
    load(thread);
  };
  state.on("odd", e => {
    openSheet(sheet);
    load(e.detail);
  });
}
