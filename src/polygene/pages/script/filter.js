/**
 * What is typed to filter a table: words that some field has, or comparisons of fields joined by
 * `and` and `or`, as in `depth > 10 and kind = 'reef'` or `depth is null`.
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
  if (tokens && looksLikeComparison(tokens)) {
    try {
      const reading = new Reading(tokens, columns);
      const keeps = reading.either();
      reading.end();
      await Promise.all(reading.used.map((column) => column.open()));
      return { keeps, note: "" };
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

function looksLikeComparison(tokens) {
  const words = ["is", "like", "in", "not"];
  return tokens.some(
    (t, k) =>
      (k > 0 && t.text in SIGNS && t.kind === "sign") ||
      (k === 1 && t.kind === "word" && words.includes(t.text.toLowerCase())),
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
    return (row) => parts.some((part) => part(row));
  }

  both() {
    const parts = [this.one()];
    while (this.word("and")) parts.push(this.one());
    return (row) => parts.every((part) => part(row));
  }

  one() {
    if (this.word("not")) {
      const inner = this.one();
      return (row) => !inner(row);
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
    return (row) => column.values[row] !== null && has(row) !== isNot;
  }

  tested(column) {
    if (this.word("like")) {
      const form = like(this.value());
      return (row) => form.test(String(column.values[row]));
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
    return token.text;
  }
}

/** How a row's value lies to a given one: below, at or above it as a number below, at or above zero. */
function against(column, text) {
  if (column.kind === "number") {
    const number = Number(text);
    if (Number.isNaN(number)) throw new Unread(`“${text}” is no number, and ${column.name} holds numbers`);
    return (row) => column.number(row) - number;
  }
  return (row) => {
    const value = String(column.values[row]);
    return value < text ? -1 : value > text ? 1 : 0;
  };
}

/** A pattern with % for anything and _ for one letter. */
function like(text) {
  const escaped = text.replace(/[\\^$.*+?()[\]{}|]/g, "\\$&");
  return new RegExp(`^${escaped.replaceAll("%", "[^]*").replaceAll("_", "[^]")}$`, "iu");
}
