/** Facts of layers, what is wrong with them, and the card of one row. */
import { cellOf } from "./columns.js";
import { button, make, own } from "./dom.js";
import { counted, plain } from "./numbers.js";

const MOST_PLACES = 200; // of a problem that are listed

/** A row of a table of facts. */
function fact(name, ...values) {
  return make("tr", {}, make("th", { scope: "row" }, name), make("td", {}, ...values));
}

/** What is known of each layer. @returns {HTMLElement} */
export function factsOf(page) {
  const { notes, made } = page.given;
  const parts = page.layers.map((layer) => ofLayer(layer));
  if (notes.length)
    parts.unshift(
      make("h3", {}, "To know"),
      make("ul", {}, ...notes.map((note) => make("li", {}, own(note)))),
    );
  return make("div", { class: "facts" }, ...parts, make("p", { class: "soft" }, made));
}

function ofLayer({ name, facts, described, lineage }) {
  const rows = facts.map(([what, value]) => fact(what, own(value)));
  const head = ["field", "type", "nulls", "holds"].map((words) => make("th", { scope: "col" }, words));
  const fields = described.map((field) =>
    make(
      "tr",
      {},
      make("td", {}, own(field.name)),
      make("td", {}, field.type),
      make("td", { class: "number" }, plain(field.nulls)),
      make("td", {}, own(field.holds)),
    ),
  );
  const parts = [make("h3", {}, own(name)), make("table", {}, ...rows)];
  if (fields.length) parts.push(make("table", {}, make("tr", {}, ...head), ...fields));
  if (lineage.length) {
    parts.push(
      make("h4", {}, "How it came about"),
      make("ol", {}, ...lineage.map((step) => make("li", {}, own(step)))),
    );
  }
  return make("article", {}, ...parts);
}

/** What is wrong, each with its places. @returns {HTMLElement} */
export function problemsOf(page, map) {
  const { problems } = page.given;
  const parts = problems.flatMap((one) => ofProblem(page, map, one));
  if (parts.length === 0) parts.push(make("p", {}, "Nothing wrong was found."));
  return make("div", { class: "problems" }, ...parts);
}

function ofProblem(page, map, { layer: id, kind, reason, cure, harms, total, rows, places, names }) {
  const layer = page.layers.find((one) => one.id === id);
  const go = (k) => {
    if (rows[k] >= 0) page.choose(layer, [rows[k]], "only");
    const box = rows[k] >= 0 ? layer.boxOf([rows[k]]) : null;
    if (places[k]) map.mark([places[k]], around(places[k], box), layer.side);
    else if (box) map.mark([], box, layer.side);
  };
  const items = rows.slice(0, MOST_PLACES).map((_, k) =>
    make(
      "li",
      {},
      button("", () => go(k), { "data-problem": `${id} ${k}` }),
    ),
  );
  items.forEach((item, k) => item.firstChild.append(own(names[k])));
  if (total > items.length) items.push(make("li", {}, `${plain(total - items.length)} more`));
  return [
    make(
      "h3",
      {},
      own(layer.name),
      `: ${kind}`,
      make("span", { class: harms ? "tag harms" : "tag" }, harms ? "does harm" : "a blemish"),
    ),
    make(
      "p",
      { class: "soft" },
      `${counted(total, "row")}: ${reason}`,
      cure === "mend" ? "; mend cures it" : cure ? `; ${cure}` : "",
    ),
    make("ul", { class: "places" }, ...items),
  ];
}

/** A box about a place: a twelfth of its row, so that what is around it is seen. */
function around([x, y], box) {
  const half = box ? Math.max(box[2] - box[0], box[3] - box[1]) / 24 : 0;
  return [x - half, y - half, x + half, y + half];
}

/** Every field of the current row, one below the other. */
export class Card {
  constructor(page) {
    this.page = page;
    this.element = make("section", {
      class: "card",
      "aria-label": "The row that was chosen last",
      hidden: true,
    });
    page.addEventListener("chosen", () => this.render());
  }

  async render() {
    const { current } = this.page;
    this.element.hidden = !current;
    if (!current) return;
    const { layer, row } = current;
    await Promise.all(layer.columns.map((column) => column.open()));
    if (current !== this.page.current) return;
    const pairs = layer.columns.map(({ name, values }) =>
      make("div", {}, make("dt", {}, own(name)), make("dd", {}, cellOf(values[row]))),
    );
    const isEmpty = layer.family !== "none" && layer.shape.isEmpty(row);
    const without = layer.away.has(row) ? ", too far off for this map" : isEmpty ? ", without geometry" : "";
    this.element.replaceChildren(
      make("h3", {}, own(layer.name), ` row ${plain(layer.numberOf(row))}${without}`),
      make("dl", {}, ...pairs),
    );
  }
}
