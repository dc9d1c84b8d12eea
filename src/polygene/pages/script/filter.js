/**
 * What is typed to filter a table: words that some field has, or comparisons of fields joined by
 * `and` and `or`, as in `depth > 10 and kind = 'reef'` or `depth is null`. They mean what they do in
 * `--where`: a comparison with a null is neither true nor false, here null, and only what is true is kept.
 */

const TOKENS = /\s*(?:("(?:[^"]|"")*")|('(?:[^']|'')*')|(<=|>=|<>|!=|[<>=(),])|([^\s<>=!(),'"]+))/y;
const SIGNS = {
  "=": (a) => a === 0,
  "<>": (a) => a !== 0,
  "!=": (a) => a !== 0,
  "<": (a) => a < 0,
  "<=": (a) => a <= 0,
  ">": (a) => a > 0,
  ">=": (a) => a >= 0,
};

/**
 * @param {string} text what was typed
 * @param {object[]} columns
 * @returns {Promise<{keeps: (row: number) => boolean, note: string}>} which rows, and what to say of it
 */
export async function filterOf(text, columns) {
  const tokens = tokensOf(text);
  if (tokens && looksLikeComparison(tokens, columns)) {
    try {
      const reading = new Reading(tokens, columns);
      const keeps = reading.either();
      reading.end();
      await Promise.all(reading.used.map((column) => column.open()));
      return { keeps: (row) => keeps(row) === true, note: "" };
    } catch (error) {
      if (!(error instanceof Unread)) throw error;
      return { ...(await anywhere(text, columns)), note: `taken as text: ${error.message}` };
    }
  }
  return anywhere(text, columns);
}

/** A comparison that cannot be read. */
class Unread extends Error {}

async function anywhere(text, columns) {
  const sought = text.trim().toLowerCase();
  await Promise.all(columns.map((column) => column.open()));
  const has = ({ values }, row) => values[row] !== null && String(values[row]).toLowerCase().includes(sought);
  return { keeps: (row) => columns.some((column) => has(column, row)), note: "" };
}

function tokensOf(text) {
  const found = [];
  TOKENS.lastIndex = 0;
  while (TOKENS.lastIndex < text.trimEnd().length) {
    const match = TOKENS.exec(text);
    if (!match) return null;
    const [, name, quoted, sign, word] = match;
    if (name) found.push({ kind: "name", text: name.slice(1, -1).replaceAll('""', '"') });
    else if (quoted) found.push({ kind: "text", text: quoted.slice(1, -1).replaceAll("''", "'") });
    else found.push(sign ? { kind: "sign", text: sign } : { kind: "word", text: word });
  }
  return found;
}

function looksLikeComparison(tokens, columns) {
  const fields = new Set(columns.map(({ name }) => name.toLowerCase()));
  const words = ["is", "like", "in", "not", "between"];
  return tokens.some(
    (t, k) =>
      (k > 0 && t.text in SIGNS && t.kind === "sign") ||
      (k > 0 &&
        t.kind === "word" &&
        words.includes(t.text.toLowerCase()) &&
        (k === 1 || fields.has(tokens[k - 1].text.toLowerCase()))),
  );
}

class Reading {
  constructor(tokens, columns) {
    Object.assign(this, { tokens, columns, at: 0, used: [] });
  }

  word(...words) {
    const token = this.tokens[this.at];
    const is =
      token && token.kind !== "text" && token.kind !== "name" && words.includes(token.text.toLowerCase());
    if (is) this.at++;
    return is;
  }

  end() {
    if (this.at < this.tokens.length) throw new Unread(`“${this.tokens[this.at].text}” was not expected`);
  }

  either() {
    const parts = [this.both()];
    while (this.word("or")) parts.push(this.both());
    return (row) => together(parts, row, true);
  }

  both() {
    const parts = [this.one()];
    while (this.word("and")) parts.push(this.one());
    return (row) => together(parts, row, false);
  }

  one() {
    if (this.word("not")) {
      const inner = this.one();
      return (row) => opposite(inner(row));
    }
    if (this.word("(")) {
      const inner = this.either();
      if (!this.word(")")) throw new Unread("a bracket is not closed");
      return inner;
    }
    return this.comparison();
  }

  comparison() {
    const column = this.column();
    if (this.word("is")) {
      const isNot = this.word("not");
      if (!this.word("null")) throw new Unread("after “is” comes null or not null");
      return (row) => (column.values[row] === null) !== isNot;
    }
    const isNot = this.word("not");
    const has = this.tested(column);
    return (row) => (column.values[row] === null ? null : has(row) !== isNot);
  }

  tested(column) {
    if (this.word("like")) {
      const form = like(this.value());
      return (row) => form.test(String(column.values[row]));
    }
    if (this.word("between")) {
      const low = against(column, this.value());
      if (!this.word("and")) throw new Unread("after “between” come two values with “and” between them");
      const high = against(column, this.value());
      return (row) => low(row) >= 0 && high(row) <= 0;
    }
    if (this.word("in")) {
      if (!this.word("(")) throw new Unread("after “in” comes a list in brackets");
      const ways = [];
      do ways.push(against(column, this.value()));
      while (this.word(","));
      if (!this.word(")")) throw new Unread("a bracket is not closed");
      return (row) => ways.some((way) => way(row) === 0);
    }
    const sign = this.tokens[this.at++]?.text;
    if (!(sign in SIGNS)) throw new Unread(`after “${column.name}” comes a comparison`);
    const way = against(column, this.value());
    return (row) => SIGNS[sign](way(row));
  }

  column() {
    const token = this.tokens[this.at++];
    if (!token || token.kind === "sign" || token.kind === "text") throw new Unread("a field was expected");
    const same = (name) => name === token.text;
    const alike = (name) => name.toLowerCase() === token.text.toLowerCase();
    const found = this.columns.find((c) => same(c.name)) ?? this.columns.find((c) => alike(c.name));
    if (!found) throw new Unread(`there is no field “${token.text}”`);
    this.used.push(found);
    return found;
  }

  value() {
    const token = this.tokens[this.at++];
    if (!token || (token.kind === "sign" && token.text !== "(")) throw new Unread("a value was expected");
    const isMoment = token.kind === "word" && ["date", "timestamp"].includes(token.text.toLowerCase());
    if (!isMoment || !this.word("(")) return token.text;
    const written = this.value();
    if (!this.word(")")) throw new Unread("a bracket is not closed");
    return written;
  }
}

/** How a row's value lies to a given one: below, at or above it as a number below, at or above zero. */
function against(column, text) {
  if (column.kind === "number") {
    const given = /^-?\d+$/.test(text) ? BigInt(text) : text.trim() ? Number(text) : NaN;
    if (given !== given) throw new Unread(`“${text}” is no number, and ${column.name} holds numbers`);
    return (row) => order(column.number(row), given);
  }
  if (column.type.startsWith("date")) return againstDay(column, text);
  return (row) => order(String(column.values[row]), text);
}

/** Dates and moments, which are there in UTC: a date beside a moment is all of its day. */
function againstDay(column, text) {
  const given = text.trim();
  if (/^\d{4}-\d\d-\d\d$/.test(given)) return (row) => order(column.values[row].slice(0, 10), given);
  const found = /^(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?)(Z?|[+-]\d\d:\d\d)$/.exec(given);
  const at = found ? Date.parse(found[2] ? given : `${given}Z`) : NaN;
  if (Number.isNaN(at)) throw new Unread(`“${text}” is no date, and ${column.name} holds those`);
  const moment = plainMoment(found[2].length > 1 ? new Date(at).toISOString() : found[1]);
  const isDay = column.type === "date";
  return (row) => order(plainMoment(column.values[row]), isDay ? moment.slice(0, 10) : moment);
}

/** A moment without what makes two texts of one: the letter at its end, zeros behind the seconds. */
function plainMoment(text) {
  return text
    .replace(/Z$/, "")
    .replace(/(\.\d*?)0+$/, "$1")
    .replace(/\.$/, "");
}

/** Below, at or above zero; NaN where neither is before the other, nor are they the same. */
function order(value, given) {
  if (value < given) return -1;
  if (value > given) return 1;
  return value === value ? 0 : NaN;
}

/** What some are (or, if one is true) or all (and, if one is false, it is that). */
function together(parts, row, decides) {
  let found = !decides;
  for (const part of parts) {
    const own = part(row);
    if (own === decides) return decides;
    if (own === null) found = null;
  }
  return found;
}

function opposite(value) {
  return value === null ? null : !value;
}

/** A pattern with % for anything and _ for one letter. */
function like(text) {
  const escaped = text.replace(/[\\^$.*+?()[\]{}|]/g, "\\$&");
  return new RegExp(`^${escaped.replaceAll("%", "[^]*").replaceAll("_", "[^]")}$`, "u");
}
