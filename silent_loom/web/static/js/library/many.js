// Many at once: what became of every photo of a batch, sorted by what needs a human look.
import { el, get, picture, post } from "../base/api.js";

const $ = id => document.getElementById(id);
const drawn = new Map(); // pictures of results that this page has, by material
let shown = "",
  timer = 0;

const figure = (v, digits) => (v == null ? "–" : v.toFixed(digits));

function line(row) {
  const look = el("span", { class: "swatch" });
  if (row.material) {
    const known = drawn.get(row.material),
      here = () => look.isConnected;
    if (known) look.replaceChildren(known.cloneNode());
    else
      get(`/api/materials/${row.material}`)
        .then(m => picture(`/api/materials/${m.id}/card.png?entry=${m.head}`, here))
        .then(made => {
          if (made) {
            drawn.set(row.material, made);
            look.replaceChildren(made);
          }
        })
        .catch(() => {
          /* binned since, or nothing is made in it */
        });
  }
  return el(
    "tr",
    { "data-photo": row.photo, "data-state": row.state, class: row.look.length ? "look" : "" },
    el("td", {}, look),
    el(
      "td",
      {},
      row.material ? el("a", { href: `/bench/${row.material}` }, row.photo) : row.photo,
      row.why ? el("small", {}, row.why) : null,
    ),
    el("td", { class: "number" }, figure(row.seam, 2)),
    el("td", { class: "number" }, row.contrast == null ? "–" : `${Math.round(100 * row.contrast)} %`),
    el("td", { class: "number" }, figure(row.evenness, 1)),
    el(
      "td",
      {},
      row.state === "failed"
        ? el("b", {}, row.error)
        : row.look.length
          ? row.look.join("; ")
          : el("span", { class: "quiet" }, "nothing odd"),
    ),
    el(
      "td",
      {},
      ...row.out.map(d => el("a", { class: "act edge", href: `/api/deliveries/${d}`, download: "" }, "Zip")),
    ),
    el("td", { class: "number quiet" }, `${row.seconds.toFixed(1)} s`),
  );
}

async function draw() {
  clearTimeout(timer);
  let all = [];
  try {
    all = (await get("/api/batches")).batches;
  } catch (error) {
    $("many-words").textContent = error.message;
  }
  const job = all.find(b => b.id === shown) || all[0];
  $("many-which").replaceChildren(
    ...all.map(b => el("option", { value: b.id, selected: b === job }, `${b.title}: ${b.state}`)),
  );
  $("many-none").hidden = !!job;
  $("many-table").hidden = !job;
  $("many-which").hidden = all.length < 2;
  $("many-line").hidden = !job;
  if (!job) return;
  shown = job.id;
  const rows = job.result.rows || [],
    of = job.result.of || job.settings.photos.length,
    running = ["waiting", "running"].includes(job.state);
  $("many-bar").style.width = `${Math.round(100 * (running ? job.fraction : rows.length / of))}%`;
  const ended = running ? `, ${job.words}` : job.state === "stopped" ? ", stopped" : "",
    wanting = rows.filter(r => r.look.length).length;
  $("many-words").textContent = job.error || `${rows.length} of ${of} done${ended}. ${wanting} want a look.`;
  $("many-stop").hidden = !running;
  $("many-sheet").dataset.state = job.state;
  const before = [...$("many-rows").children].map(r => r.dataset.photo + r.dataset.state).join(),
    now = rows.map(r => r.photo + r.state).join();
  if (before !== now || $("many-rows").dataset.job !== job.id) {
    $("many-rows").replaceChildren(...rows.map(line));
    $("many-rows").dataset.job = job.id;
  }
  if (running && $("many-sheet").open) timer = setTimeout(draw, 900);
}

export function openMany(refused = []) {
  shown = "";
  $("many-refused").hidden = !refused.length;
  $("many-refused").textContent = refused.length ? `Not taken in: ${refused.join(" ")}` : "";
  $("many-sheet").showModal();
  draw();
}

addEventListener("DOMContentLoaded", () => {
  $("many-close").addEventListener("click", () => $("many-sheet").close());
  $("many-sheet").addEventListener("close", () => clearTimeout(timer));
  $("many-which").addEventListener("change", () => {
    shown = $("many-which").value;
    draw();
  });
  $("many-stop").addEventListener("click", async () => {
    await post(`/api/jobs/${shown}/cancel`);
    draw();
  });
});
