// What the chart is drawn with: its sizes, words cut to their room, the knots of a row.

export const ROW = 26,
  HEAD = 58,
  LANE = 17,
  LEFT = 160,
  GRIP = 26,
  COST = 22,
  INDENT = 10;

// Widths of words, to shorten what would run into the lanes
export const ruler = document.createElement("canvas").getContext("2d");
export function fit(words, font, room) {
  ruler.font = font;
  if (ruler.measureText(words).width <= room) return words;
  let n = words.length;
  while (n > 0 && ruler.measureText(`${words.slice(0, n)}…`).width > room) n--;
  return n ? `${words.slice(0, n)}…` : "";
}
export const CLOSE = 14,
  FEW = 8,
  HELPERS = "helpers:"; // the column that helper maps share

// The knots of a row by column: those of helpers that share one column together
export function knotsOf(row, threads) {
  const shared = threads.find(t => t.folded);
  if (!shared) return row.knots;
  const knots = {};
  for (const [name, kind] of Object.entries(row.knots)) {
    const lane = shared.folded.some(t => t.name === name) ? shared.name : name;
    knots[lane] = lane in knots && knots[lane] !== kind ? "both" : kind;
  }
  return knots;
}
export const TITLE = "600 12.5px Figtree, sans-serif",
  WORDS = "430 10.5px Figtree, sans-serif";
