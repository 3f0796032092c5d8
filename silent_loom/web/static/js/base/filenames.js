// Names for photos that came with names that say nothing: by their folder and a number.
const SAYS_NOTHING = "photo|image|img|dsc[nf]?|pxl|scan|picture|pasted|untitled|unnamed|p|foto";
const PLAIN = new RegExp(`^(${SAYS_NOTHING})?[ _-]*(\\d{4,8}[ _-]*)*\\d*(\\s*\\(\\d+\\))?$`, "i");

// The folder that a file was picked in, where the browser tells
const folderOf = file => (file.webkitRelativePath || file.path || "").split(/[\\/]/).slice(0, -1).pop() || "";

// A name for each file, all of them different; endings are kept
export function telling(files) {
  const parts = files.map(f => {
    const at = (f.name || "pasted.png").lastIndexOf(".");
    return [f.name.slice(0, at), f.name.slice(at), folderOf(f)];
  });
  const wanted = parts.map(([stem, , folder]) =>
    folder && (PLAIN.test(stem) || parts.filter(([s]) => s === stem).length > 1) ? folder : stem,
  );
  const counts = {};
  return wanted.map((name, i) => {
    const many = wanted.filter(w => w === name).length > 1;
    counts[name] = (counts[name] || 0) + 1;
    return `${name}${many ? ` ${counts[name]}` : ""}${parts[i][1]}`;
  });
}
