// From a recipe: a weave that worked once, on another photo, on many, or with its dials turned.
import { telling } from "../base/filenames.js";
import { el, get, picture, post, send } from "../base/api.js";
import { openMany } from "./many.js";
import { Shelf } from "./shelf.js";

const $ = id => document.getElementById(id);
let shelf = null,
  photos = [],
  looked = 0,
  waiting = 0;

function chosen(r) {
  $("recipe-name").value = r.photos ? "" : r.title;
  $("recipe-photos").hidden = !r.photos;
  $("recipe-dials").replaceChildren(
    ...r.dials.map(d => {
      const told = el("output", {}, (+d.value).toFixed(2));
      const slide = el("input", {
        type: "range",
        class: "slide",
        min: d.low,
        max: d.high,
        step: (d.high - d.low) / 100,
        value: d.value,
        "data-dial": d.name,
        "aria-label": d.title,
        oninput: () => {
          told.textContent = (+slide.value).toFixed(2);
          filled();
          look();
        },
      });
      const filled = () => slide.style.setProperty("--at", `${(100 * (slide.value - d.low)) / (d.high - d.low)}%`);
      filled();
      return el("div", { class: "control dial" }, el("span", {}, d.title), slide, told);
    }),
  );
  $("recipe-own").hidden = !r.own;
  $("recipe-behind").hidden = !r.behind;
  $("recipe-behind").textContent = `Bring ${r.behind} material${r.behind === 1 ? "" : "s"} up to it`;
  $("recipe-seed").value = 0;
  said();
}

const turned = () =>
  Object.fromEntries(
    [...$("recipe-dials").querySelectorAll("input")]
      .filter(i => shelf.chosen.dials.some(d => d.name === i.dataset.dial && Math.abs(d.value - +i.value) > 1e-6))
      .map(i => [i.dataset.dial, +i.value]),
  );

// What it looks like with these dials; where a photo is needed the picture stays that of the recipe
function look() {
  const r = shelf.chosen,
    turn = ++looked;
  if (r.photos) return;
  clearTimeout(waiting);
  $("recipe-picture").classList.add("stale");
  waiting = setTimeout(async () => {
    const made = await picture(
      `/api/recipes/${r.name}/look.png?seed=${+$("recipe-seed").value || 0}&dials=` +
        `${encodeURIComponent(JSON.stringify(turned()))}`,
      () => turn === looked,
    ).catch(() => null);
    if (made && turn === looked) {
      $("recipe-picture").src = made.src;
      $("recipe-picture").classList.remove("stale");
    }
  }, 180);
}

function said() {
  const r = shelf.chosen,
    many = photos.length > 1;
  $("recipe-list").textContent = photos.length
    ? photos
        .slice(0, 4)
        .map(f => f.name)
        .join(", ") + (photos.length > 4 ? ` and ${photos.length - 4} more` : "")
    : "none yet";
  $("recipe-many").hidden = !many || !r?.photos;
  $("recipe-begin").textContent = !r?.photos
    ? "Begin"
    : many
      ? `Put ${photos.length} photos through`
      : "Begin with the photo";
  $("recipe-begin").disabled = !r || (r.photos > 0 && !photos.length);
  $("recipe-named").hidden = many && r?.photos > 0;
}

const isPicture = f => /\.(png|jpe?g|tga|tiff?|bmp|webp|exr|hdr)$/i.test(f.name);
function take(files) {
  photos = [...files].filter(isPicture).sort((a, b) => a.name.localeCompare(b.name));
  said();
}

async function begin() {
  const r = shelf.chosen;
  if (!r || $("recipe-begin").disabled) return;
  $("recipe-begin").disabled = true;
  try {
    if (r.photos && photos.length > 1) {
      const stored = [],
        refused = [],
        names = telling(photos);
      for (const [i, file] of photos.entries()) {
        $("recipe-state").textContent = `Reading ${file.name} (${i + 1} of ${photos.length}) …`;
        const form = new FormData();
        form.append("photo", file, names[i]);
        try {
          stored.push(await send("/api/photos", form));
        } catch (error) {
          refused.push(error.message);
        }
      }
      if (!stored.length) throw new Error(refused.join(" "));
      await post("/api/batches", {
        recipe: r.name,
        photos: stored.map(({ digest, name }) => ({ digest, name })),
        profiles: [...$("recipe-profile").selectedOptions].map(o => o.value),
        size: +$("recipe-size").value,
        seed: +$("recipe-seed").value || 0,
        dials: turned(),
      });
      shelf.part("sheet").close();
      openMany(refused);
    } else {
      $("recipe-state").textContent = r.photos ? "Reading the photo, and finding out how its edges meet best …" : "";
      const form = new FormData();
      for (const f of r.photos ? photos : []) form.append("photos", f, telling([f])[0]);
      form.append("title", $("recipe-name").value);
      form.append("seed", String(+$("recipe-seed").value || 0));
      form.append("dials", JSON.stringify(turned()));
      const made = await send(`/api/recipes/${r.name}/material`, form);
      location.href = `/bench/${made.id}`;
    }
  } catch (error) {
    shelf.fail(error.message);
  }
  $("recipe-state").textContent = "";
  said();
}

async function open() {
  const { recipes } = await get("/api/recipes");
  shelf.open(recipes);
  if (!$("recipe-profile").options.length) {
    const { profiles } = await get("/api/profiles");
    $("recipe-profile").append(...profiles.map(p => el("option", { value: p.name }, p.title)));
  }
}
export const openRecipes = open;

addEventListener("DOMContentLoaded", () => {
  shelf = new Shelf("recipe", {
    text: r => `${r.title} ${r.says} ${r.family} ${r.words.join(" ")} ${r.name}`,
    onChoose: chosen,
    onBegin: begin,
  });
  $("recipe-begin").addEventListener("click", begin);
  $("recipe-seed").addEventListener("input", look);
  $("recipe-dice").addEventListener("click", () => {
    $("recipe-seed").value = 1 + Math.floor(Math.random() * 9999);
    look();
  });
  $("recipe-pick").addEventListener("click", () => $("recipe-file").click());
  $("recipe-folder").addEventListener("click", () => $("recipe-dir").click());
  for (const id of ["recipe-file", "recipe-dir"])
    $(id).addEventListener("change", e => {
      take(e.target.files);
      e.target.value = "";
    });
  $("recipe-forget").addEventListener("click", async () => {
    try {
      await fetch(`/api/recipes/${shelf.chosen.name}`, { method: "DELETE" });
      shelf.part("sheet").close();
      await open();
    } catch (error) {
      shelf.fail(error.message);
    }
  });
  $("recipe-behind").addEventListener("click", async () => {
    try {
      const { materials } = await post(`/api/recipes/${shelf.chosen.name}/follow`);
      $("recipe-state").textContent =
        `${materials.map(m => m.name).join(", ")}: brought up to the recipe; Undo on the bench takes it back.`;
      $("recipe-behind").hidden = true;
    } catch (error) {
      shelf.fail(error.message);
    }
  });
});
