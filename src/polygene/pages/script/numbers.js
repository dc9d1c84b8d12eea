/** Numbers as words. */

/** @param {number} value @param {number} [digits] after the point @returns {string} */
export function plain(value, digits = 0) {
  return value.toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits });
}

/** "1 row", "2,000 rows". @param {number} n @param {string} word */
export function counted(n, word) {
  return `${plain(n)} ${word}${n === 1 ? "" : "s"}`;
}

/** A value rounded to so many digits that count. */
function rounded(value, digits = 4) {
  const above = value === 0 ? 1 : Math.floor(Math.log10(Math.abs(value))) + 1;
  return value.toLocaleString("en", { maximumFractionDigits: Math.max(0, Math.min(9, digits - above)) });
}

/** @param {number} value @param {string} unit m, or what the map counts in */
export function lengthWords(value, unit) {
  if (unit !== "m") return `${rounded(value)} ${unit}`;
  return value >= 1000 ? `${rounded(value / 1000)} km` : `${rounded(value)} m`;
}

/** @param {number} value @param {string} unit m, or what the map counts in */
export function areaWords(value, unit) {
  if (unit !== "m") return `${rounded(value)} square ${unit}`;
  if (value >= 1e6) return `${rounded(value / 1e6)} km²`;
  return value >= 1e4 ? `${rounded(value / 1e4)} ha` : `${rounded(value)} m²`;
}

/** Degrees with a letter of where. */
function degrees(value, digits, [positive, negative]) {
  return `${Math.abs(value).toFixed(digits)}° ${value < 0 ? negative : positive}`;
}

/** @param {[number, number]} place longitude and latitude @param {number} digits */
export function placeWords([longitude, latitude], digits = 5) {
  return `${degrees(latitude, digits, "NS")}, ${degrees(longitude, digits, "EW")}`;
}

/** The largest of 1, 2 or 5 times a power of ten that is not above a value. */
export function roundBelow(value) {
  const power = 10 ** Math.floor(Math.log10(value));
  return [5, 2, 1].map((part) => part * power).find((found) => found <= value * 1.0001);
}
