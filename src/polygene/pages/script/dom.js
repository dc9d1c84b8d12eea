/** Elements from text. What comes from data is only ever set as text, never read as markup. */

/**
 * @param {string} tag
 * @param {Record<string, any>} [given] attributes; functions are listeners, true and false are there or not
 * @param {...(Node | string)} children
 * @returns {any}
 */
export function make(tag, given = {}, ...children) {
  const element = document.createElement(tag);
  for (const [name, value] of Object.entries(given)) {
    if (typeof value === "function") element.addEventListener(name, value);
    else if (name.startsWith("aria-") && value !== null) element.setAttribute(name, String(value));
    else if (value === true) element.setAttribute(name, "");
    else if (value !== false && value !== null && value !== undefined) {
      element.setAttribute(name, String(value));
    }
  }
  element.append(...children);
  return element;
}

/** Text of the data, kept from turning what stands around it the other way. @returns {any} */
export function own(text, given = {}) {
  return make("bdi", given, text);
}

/** A patch of a layer's colour; colours are set by script, since the page allows no others. */
export function swatch(family, look, colour) {
  const patch = make("span", { class: `swatch ${family}`, "aria-hidden": "true" });
  if (family === "lines")
    patch.style.background = `linear-gradient(${colour}, ${colour}) center / 100% 3px no-repeat`;
  else if (look.hatch) {
    patch.style.background = `repeating-linear-gradient(-45deg, ${colour} 0 1px, transparent 1px 4px)`;
    patch.style.borderColor = colour;
  } else if (look.outline) patch.style.border = `2px solid ${colour}`;
  else patch.style.background = colour;
  return patch;
}

/** A button with words on it. */
export function button(words, does, given = {}) {
  return make("button", { type: "button", click: does, ...given }, words);
}
