// Bake and deliver: for whom, how large, what it will make, what was made, and whether a receiver gets what was meant.
import { el, get, post, send, since } from "../../base/api.js";
import { openSheet } from "../sheets/dock.js";
import { startBoard } from "./board.js";
import { Forecast, bytes as megabytes } from "./forecast.js";
import { Proof } from "./proof.js";

const SIZES = [256, 512, 1024, 2048, 4096, 8192, 16384];

// What the files are called after the name that they share
function ends(files) {
  let n = 0;
  while (files.length > 1 && files.every(f => f[n] && f[n] === files[0][n])) n++;
  return files.map(f => `…${f.slice(n)}`).join(", ");
}

export function startDeliver(state) {
  const $ = id => document.getElementById(id),
    sheet = $("deliver-sheet");
  const look = {
    profiles: [],
    made: [],
    chosen: "plain",
    size: 1024,
    aspect: 1,
    holds: null,
    mm: [1000, 1000],
    mistakes: [],
    job: null,
    leave: [],
  };
  const fault = words => {
    $("deliver-error").textContent = words;
    $("deliver-error").hidden = !words;
  };
  const forecast = new Forecast(state, $("forecast"), $("losses"), $("forecast-state"), map => {
    look.leave = look.leave.includes(map) ? look.leave.filter(m => m !== map) : [...look.leave, map];
    tell();
  });
  const proof = new Proof(state, $("proof"), () => look.mistakes);

  const order = () => ({
    profile: look.chosen,
    size: look.size,
    source: $("deliver-from").value,
    supersample: +$("deliver-super").value,
    skip_constant: $("deliver-skip").checked,
    lit: $("deliver-lit").checked,
    memory_gb: +$("deliver-memory").value || 0,
    leave: look.leave,
    two_sided: $("deliver-two").checked,
  });
  const tell = () => {
    words();
    if (sheet.open) forecast.ask(order());
  };

  async function load() {
    try {
      const found = await get(`${state.path}/deliveries`);
      Object.assign(look, {
        profiles: found.profiles,
        made: found.deliveries,
        aspect: found.aspect,
        holds: found.source_texels,
        mm: found.size_mm,
        mistakes: found.mistakes,
      });
      if (!look.profiles.some(p => p.name === look.chosen)) look.chosen = "plain";
      receivers();
      made();
      words();
    } catch (error) {
      fault(error.message);
    }
  }

  // --- for whom ------------------------------------------------------------------------------------------------
  function receivers() {
    const held = document.activeElement?.closest?.("#receivers")?.querySelector(":focus")?.dataset.profile;
    $("receivers").replaceChildren(
      ...look.profiles.map(p => {
        const on = p.name === look.chosen,
          tools = el(
            "span",
            { class: "line tools-of" },
            el(
              "a",
              {
                class: "act",
                href: `/api/profiles/${p.name}.json`,
                download: `${p.name}.json`,
                title: "The profile as a file",
              },
              "Share",
            ),
            p.own ? el("button", { class: "act", type: "button", onclick: () => forget(p) }, "Throw away") : null,
          );
        return el(
          "div",
          { class: "receiver" },
          el(
            "button",
            {
              class: "choice",
              type: "button",
              role: "radio",
              "aria-checked": String(on),
              "data-profile": p.name,
              tabindex: on ? 0 : -1,
              onclick: () => {
                look.chosen = p.name;
                receivers();
                tell();
              },
            },
            el("b", {}, p.title),
            p.own ? el("small", { class: "quiet" }, "yours") : null,
            on ? el("span", { class: "quiet" }, p.says) : null,
            on ? el("small", { title: p.files.join("\n") }, ends(p.files)) : null,
          ),
          on ? tools : null,
        );
      }),
    );
    if (held) $("receivers").querySelector("[aria-checked=true]")?.focus();
  }
  const seeChosen = () => $("receivers").querySelector("[aria-checked=true]")?.scrollIntoView({ block: "nearest" });
  $("receivers").addEventListener("keydown", e => {
    const by = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (!by) return;
    e.preventDefault();
    const at = look.profiles.findIndex(p => p.name === look.chosen);
    look.chosen = look.profiles[(at + by + look.profiles.length) % look.profiles.length].name;
    receivers();
    tell();
  });
  async function forget(p) {
    try {
      await fetch(`/api/profiles/${p.name}`, { method: "DELETE" });
      look.chosen = "plain";
      await load();
      tell();
    } catch (error) {
      fault(error.message);
    }
  }
  $("profile-take").addEventListener("click", () => $("profile-file").click());
  $("profile-file").addEventListener("change", async () => {
    const form = new FormData();
    form.append("file", $("profile-file").files[0]);
    $("profile-file").value = "";
    try {
      look.chosen = (await send("/api/profiles/open", form)).name;
      fault("");
      await load();
      tell();
      seeChosen();
    } catch (error) {
      fault(error.message);
    }
  });
  const board = startBoard(state, async name => {
    look.chosen = name;
    await load();
    tell();
    seeChosen();
  });
  $("board-open").addEventListener("click", () => board(look.chosen, look.size));

  // --- size ----------------------------------------------------------------------------------------------------
  function words() {
    const short = Math.round(look.aspect >= 1 ? look.size / look.aspect : look.size * look.aspect),
      [w, h] = look.aspect >= 1 ? [look.size, short] : [short, look.size];
    $("size-words").textContent =
      `${w} × ${h} texels, ${((look.size / Math.max(...look.mm)) * 10).toFixed(1)} a centimetre.`;
    $("deliver-size").replaceChildren(
      ...SIZES.map(n => el("option", { value: n, selected: n === look.size }, String(n))),
    );
    const from = $("deliver-from").value,
      masters = look.made.filter(d => ["master", "plain", "film"].includes(d.profile) && d.size >= look.size);
    $("deliver-from").replaceChildren(
      el("option", { value: "" }, "the live material"),
      ...masters.map(d => el("option", { value: d.id, selected: d.id === from }, `the bake ${d.file}`)),
    );
  }
  $("deliver-size").addEventListener("change", () => {
    look.size = +$("deliver-size").value;
    tell();
  });
  for (const b of sheet.querySelectorAll("[data-size]"))
    b.addEventListener("click", () => {
      look.size = +b.dataset.size;
      if (look.size === 4096) look.chosen = "master";
      receivers();
      tell();
    });
  for (const id of ["deliver-from", "deliver-super", "deliver-skip", "deliver-lit", "deliver-two", "deliver-memory"])
    $(id).addEventListener("change", tell);

  // --- jobs ----------------------------------------------------------------------------------------------------
  const running = () => !!look.job && ["waiting", "running"].includes(look.job.state);
  function job() {
    const j = look.job,
      percent = j ? Math.round(j.fraction * 100) : 0;
    $("deliver-job").hidden = !j;
    $("deliver-go").disabled = running();
    if (!j) return;
    $("deliver-job").dataset.state = j.state;
    $("job-words").textContent = `${percent} % · ${j.words} · ${j.seconds.toFixed(1)} s`;
    $("job-stop").hidden = !running();
    const bar = $("deliver-job").querySelector(".progress-line");
    bar.setAttribute("aria-valuenow", percent);
    bar.firstElementChild.style.width = `${percent}%`;
    const file = j.state === "done" && j.result.file;
    $("job-log").replaceChildren(
      ...(file
        ? [
            el(
              "li",
              {},
              "Made: ",
              el("a", { href: `/api/deliveries/${j.result.delivery}/file`, download: true }, file),
              `, ${megabytes(j.result.bytes)}`,
            ),
          ]
        : j.log.slice(-3).map(l => el("li", {}, l))),
      ...(j.error ? [el("li", { class: "note warn" }, j.error)] : []),
      ...(j.result.manifest?.warnings || []).map(w => el("li", { class: "note" }, w)),
    );
  }
  async function watch() {
    job();
    while (running()) {
      await new Promise(r => setTimeout(r, 200));
      try {
        look.job = await get(`/api/jobs/${look.job.id}`);
      } catch (error) {
        fault(error.message);
        look.job = null;
      }
      job();
    }
    await load();
  }
  $("job-stop").addEventListener("click", () => post(`/api/jobs/${look.job.id}/cancel`).catch(e => fault(e.message)));
  $("deliver-go").addEventListener("click", async () => {
    fault("");
    proof.clear();
    $("deliver-foot").prepend($("deliver-job")); // progress and result appear where the press was made
    try {
      await state.settle();
      look.job = await post(`${state.path}/deliver`, order());
      await watch();
    } catch (error) {
      fault(error.message);
    }
  });

  // --- made ----------------------------------------------------------------------------------------------------
  function made() {
    const at = $("made").querySelector("li:has(#deliver-job)")?.dataset.delivery;
    if (at) $("deliver-foot").prepend($("deliver-job"));
    $("made").replaceChildren(
      ...look.made.map(d =>
        el(
          "li",
          { "data-delivery": d.id },
          el("a", { href: `/api/deliveries/${d.id}/file`, download: true }, d.file),
          el("small", { class: "quiet" }, `${d.size} · ${megabytes(d.bytes)} · ${since(d.at)}`),
          el(
            "span",
            { class: "line" },
            el(
              "button",
              {
                class: "act edge",
                type: "button",
                title: "Read the files back as a receiver would, and hold them against the live material",
                onclick: () => prove(d),
              },
              "Prove",
            ),
            el(
              "button",
              { class: "act", type: "button", "aria-label": `Throw ${d.file} away`, onclick: () => throwAway(d) },
              "Throw away",
            ),
          ),
        ),
      ),
    );
    if (at) $("made").querySelector(`[data-delivery="${at}"]`)?.append($("deliver-job"));
    if (!look.made.length) $("made").append(el("li", { class: "quiet" }, "Nothing yet."));
  }
  async function throwAway(d) {
    try {
      await fetch(`/api/deliveries/${d.id}`, { method: "DELETE" });
      proof.clear();
      await load();
    } catch (error) {
      fault(error.message);
    }
  }
  async function prove(d) {
    fault("");
    proof.clear();
    const line = () => $("made").querySelector(`[data-delivery="${d.id}"]`);
    line()?.append($("deliver-job"));
    try {
      look.job = await post(`/api/deliveries/${d.id}/proof`);
      await watch();
      if (look.job?.state === "done") {
        line()?.after($("proof"));
        proof.show(d, look.job.result);
      }
    } catch (error) {
      fault(error.message);
    }
  }

  // A bake that was under way when the page was left goes on
  async function again() {
    const mine = (await get("/api/jobs").catch(() => ({ jobs: [] }))).jobs.find(
      j => j.material === state.ident && j.kind === "deliver" && ["waiting", "running"].includes(j.state),
    );
    if (mine && !running()) {
      look.job = mine;
      watch();
    }
  }
  $("deliver").addEventListener("click", async () => {
    fault("");
    openSheet(sheet);
    await load();
    tell();
    again();
  });
  state.on("material", () => {
    if (sheet.open) tell();
  });
}
