// What happens on the bench, and what is told with it. `State.emit` and `State.on` take these names and no others.

/**
 * @typedef {object} Events
 * @property {void} material  the material is another: a change, an undo, another state
 * @property {void} chosen  another row is chosen
 * @property {void} draft  a control moves; nothing is stored yet
 * @property {void} saving  a change is on its way
 * @property {void} saved  the application has stored it
 * @property {string} fault  what could not be done, in words
 * @property {string} refused  what was asked for and not found, in words
 * @property {object} clash  another window went on meanwhile: the state that was kept beside the line
 * @property {void} figures  figures of the sheet and its maps have come
 * @property {void} before  the state before the last change is shown, or no longer
 * @property {void} compare  another pair is held against each other, or none
 * @property {void} wipe  the line between both has moved, or a blink has turned
 * @property {void} picking  the next press on a flat picture gives a place, or no longer
 * @property {void} active  another picture of the table is the one that keys go to
 * @property {void} overlay  a mask or marks are laid over the pictures, or taken off
 * @property {void} corners  the corners of a photo are to be placed
 * @property {void} grid  the grid of a motif is to be corrected
 * @property {void} length  a line of known length is to be drawn
 * @property {void} brush  the brush of the hand is another
 * @property {{ step_id: string }} sun  where the light of a photo comes from is to be shown and turned
 * @property {{ what: string, spot?: number[] }} cure  something that was found wrong is to be mended
 * @property {void} fresh  a new photo has come in and is to be looked at
 * @property {void} looked  a picture looks at another place or map
 * @property {string} odd  what is odd in a map is to be listed
 * @property {void} reading  the sheet of readings is to be opened
 * @property {string} said  a short message for the foot of the page
 * @property {void} trying  maps are to be tried on in other roles
 */

/** @typedef {keyof Events} EventName */

export {};
