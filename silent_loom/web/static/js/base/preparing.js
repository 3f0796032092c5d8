// On a first start: what is being prepared, and how far that is, in the head of every page. Everything can be used
// meanwhile.
import { el, get } from "./api.js";

const bar = el("i"),
  words = el("span"),
  node = el(
    "span",
    {
      class: "preparing",
      role: "status",
      id: "preparing",
      hidden: true,
      title:
        "Once after installing: the tools are made ready for this computer. Everything can be used; what " +
        "is not ready yet comes as soon as it is.",
    },
    words,
    el("span", { class: "progress-line", "aria-hidden": true }, bar),
  );

async function look() {
  let told = null;
  try {
    told = await get("/api/preparing");
  } catch {
    /* asked again */
  }
  document.body.dataset.prepared = told?.done ? "1" : "0";
  if (told?.done) {
    node.remove();
    return;
  }
  if (told) {
    if (!node.isConnected) document.querySelector(".brand-mark")?.after(node);
    node.hidden = false;
    words.textContent = told.of
      ? `First start: preparing tools, ${told.ready} of ${told.of}`
      : "First start: preparing tools";
    bar.style.width = `${told.of ? (100 * told.ready) / told.of : 0}%`;
  }
  setTimeout(look, 1000);
}
look();
