// Which file draws which control: by the shape that a step declares for a setting, and by the panel of its own that
// it has.
import { strokesControls } from "../hand/handtools.js";
import { regionsControls } from "../hand/regions.js";
import { cellsControls } from "./break_cells.js";
import { gridControls, overlapControls, suggestControls } from "./closing.js";
import { curveEditor } from "./drawn.js";
import { editsControls } from "./elements.js";
import { greyControls, lightPicture } from "./light.js";
import { draftEditor, pathEditor } from "./patterns.js";
import { reliefPanel, sunPanel } from "./relief.js";
import { overControls } from "./second_material.js";
import { modelControls } from "./model_under.js";
import { sizesEditor } from "./sizes.js";
import { mapsControls, photoControls } from "./sources.js";
import { cornersControls, rectanglesControls } from "./straightening.js";
import { rampEditor } from "./tones.js";

// Each takes the controls and the field, and gives { node, update(values), histogram(channels, thread) }
export const BY_SHAPE = {
  corners: cornersControls,
  curve: (controls, field) => curveEditor(field, controls),
  draft: (controls, field) => draftEditor(field, controls),
  edits: editsControls,
  grey: greyControls,
  grid: gridControls,
  kept: rectanglesControls,
  maps: mapsControls,
  model: modelControls,
  over: overControls,
  path: (controls, field) => pathEditor(field, controls),
  ramp: (controls, field) => rampEditor(field, controls),
  regions: regionsControls,
  sizes: (controls, field) => sizesEditor(field, controls),
  source: photoControls,
  strokes: strokesControls,
};

// What stands above a step's settings, and what follows one of them
export const BY_PANEL = {
  join: suggestControls,
  cells: cellsControls,
  light: lightPicture,
  relief: reliefPanel,
  sun: sunPanel,
};
export const AFTER = { join: { overlap_y: overlapControls } };
