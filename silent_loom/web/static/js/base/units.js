// Lengths: kept in millimetres, shown and typed in what the artist has chosen. Any unit may be typed into any field.
export const UNITS = { mm: 1, cm: 10, m: 1000, in: 25.4, ft: 304.8 };
const WORDS = {
  mm: "mm",
  cm: "cm",
  m: "m",
  in: "in",
  ft: "ft",
  '"': "in",
  "″": "in",
  "'": "ft",
  "′": "ft",
  inch: "in",
  inches: "in",
  foot: "ft",
  feet: "ft",
  metre: "m",
  metres: "m",
  meter: "m",
  meters: "m",
};

export const chosen = () => (localStorage.getItem("loom-unit") in UNITS ? localStorage.getItem("loom-unit") : "auto");
export function choose(unit) {
  localStorage.setItem("loom-unit", unit);
  dispatchEvent(new CustomEvent("loom-unit"));
}

// A length in words
export function length(mm) {
  const unit = chosen();
  if (unit !== "auto") return `${+(mm / UNITS[unit]).toPrecision(3)} ${unit}`;
  return mm >= 10000 || mm === 1000
    ? `${+(mm / 1000).toPrecision(3)} m`
    : mm >= 10
      ? `${+(mm / 10).toPrecision(3)} cm`
      : `${+mm.toPrecision(3)} mm`;
}

// What a field of a unit shows: factor to what is kept, and the unit beside it. Parts of the sheet are shown as lengths
export function fieldUnit(unit, sheet) {
  const of = unit === "of the sheet" ? sheet : unit === "mm" ? 1 : 0;
  if (!of) return { factor: 1, unit };
  const name = chosen() === "auto" ? "mm" : chosen();
  return { factor: UNITS[name] / of, unit: name };
}

// A number as it was typed, with or without a unit; NaN where it is none
export function parse(text, shown) {
  const found = /^\s*([-+]?[\d.,]*\d(?:e[-+]?\d+)?)\s*([^\d\s]*)\s*$/i.exec(text);
  if (!found) return NaN;
  const value = Number(found[1].replace(",", ".")),
    word = found[2].toLowerCase();
  if (!word || word === shown.unit.toLowerCase()) return value * shown.factor;
  const unit = WORDS[word];
  if (!unit || !(shown.unit in UNITS)) return NaN;
  return value * (UNITS[unit] / UNITS[shown.unit]) * shown.factor;
}
