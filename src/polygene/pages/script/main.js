/** The page put together: what it carries is opened, and map, list, table and facts are linked. */
import { Blocks } from "./blocks.js";
import { make, own } from "./dom.js";
import { Earth } from "./earth.js";
import { Card, factsOf, problemsOf } from "./facts.js";
import { Layer } from "./layer.js";
import { Legend } from "./legend.js";
import { MapView } from "./map.js";
import { plain } from "./numbers.js";
import { Painter, work } from "./painter.js";
import { Sorter } from "./sorter.js";
import { Table } from "./table.js";

/** What the reader has done, and the events that tell of it: `look`, `chosen`, `theme`. */
class Page extends EventTarget {
  constructor(given, layers, earth) {
    super();
    Object.assign(this, { given, layers, earth });
    this.hasSides = layers.some((layer) => layer.side === "before");
    /** @type {{layer: object, row: number} | null} the row that was chosen last */
    this.current = null;
    this.painter = null;
  }

  tell(what) {
    this.dispatchEvent(new Event(what));
  }

  show(layer, isShown) {
    layer.isShown = isShown;
    this.tell("look");
  }

  fade(layer, opacity) {
    layer.opacity = opacity;
    this.tell("look");
  }

  aside(layer, side) {
    layer.side = side;
    this.tell("look");
  }

  /** Move a layer up or down among the others. */
  move(layer, step) {
    const from = this.layers.indexOf(layer);
    const to = from + step;
    if (to < 0 || to >= this.layers.length) return;
    this.layers.splice(to, 0, ...this.layers.splice(from, 1));
    this.tell("look");
  }

  masked(layer) {
    this.painter.mask(layer.id, layer.mask);
    this.tell("look");
  }

  /**
   * Choose rows: `only` these, these in addition (`add`), or turned on or off (`turn`).
   * @param {object} layer @param {ArrayLike<number>} rows
   */
  choose(layer, rows, how) {
    if (how === "only") for (const one of this.layers) one.chosen.clear();
    for (const row of Array.from(rows)) {
      if (how === "turn" && layer.chosen.has(row)) layer.chosen.delete(row);
      else layer.chosen.add(row);
    }
    const last = rows[rows.length - 1];
    this.current = layer.chosen.has(last) ? { layer, row: last } : null;
    this.tell("chosen");
  }

  chooseNone() {
    for (const one of this.layers) one.chosen.clear();
    this.current = null;
    this.tell("chosen");
  }
}

let nBooks = 0; // on a page that shows several maps, ids are told apart

/** Tabs, as the ARIA practices have them: arrow keys go from one to the next. */
function tabs(panels) {
  const book = nBooks++ ? `-${nBooks}` : "";
  const heads = panels.map(({ id, words }, k) =>
    make(
      "button",
      {
        type: "button",
        role: "tab",
        id: `tab-${id}${book}`,
        "aria-controls": `panel-${id}${book}`,
        click: () => pick(k),
        keydown: (event) => {
          const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
          if (step) pick((k + step + panels.length) % panels.length, true);
        },
      },
      ...words,
    ),
  );
  const bodies = panels.map(({ id, element }) =>
    make(
      "div",
      { role: "tabpanel", id: `panel-${id}${book}`, "aria-labelledby": `tab-${id}${book}` },
      element,
    ),
  );
  const pick = (now, isFocused = false) => {
    heads.forEach((head, k) => {
      head.setAttribute("aria-selected", String(k === now));
      head.tabIndex = k === now ? 0 : -1;
      bodies[k].hidden = k !== now;
    });
    if (isFocused) heads[now].focus();
    panels[now].shown?.();
  };
  return {
    pick,
    bodies,
    element: make(
      "div",
      { class: "tabs" },
      make("div", { role: "tablist", "aria-label": "Tables and facts" }, ...heads),
      ...bodies,
    ),
  };
}

/** What is beside the map. */
function beside(page, map) {
  const tables = page.layers.map((layer) => new Table(page, layer, map));
  page.tables = tables;
  const panels = page.layers.map((layer, k) => ({
    id: `rows-${layer.id}`,
    words: [own(layer.name)],
    element: tables[k].element,
    shown: () => tables[k].grid.render(),
    layer,
  }));
  if (page.given.problems) {
    const n = page.given.problems.reduce((sum, one) => sum + one.total, 0);
    panels.push({ id: "problems", words: [`Problems (${plain(n)})`], element: problemsOf(page, map) });
  }
  panels.push({ id: "facts", words: ["Facts"], element: factsOf(page) });
  const book = tabs(panels);
  const firstShown = panels.length - 1 - [...panels].reverse().findIndex((p) => p.layer);
  book.pick(Math.max(0, firstShown));
  page.addEventListener("chosen", () => {
    const k = panels.findIndex((panel) => panel.layer && panel.layer === page.current?.layer);
    const isOther = k >= 0 && book.bodies[k].hidden;
    const onProblems = panels.some(({ id }, k) => id === "problems" && !book.bodies[k].hidden);
    if (isOther && !onProblems) book.pick(k);
  });
  return make(
    "div",
    { class: "beside" },
    new Legend(page, map).element,
    book.element,
    new Card(page).element,
  );
}

/** The edge between map and tables. */
function seam(root) {
  const set = (share) => root.style.setProperty("--share", `${Math.min(85, Math.max(15, share))}%`);
  const edge = make("div", {
    class: "seam",
    role: "separator",
    tabindex: 0,
    "aria-orientation": "vertical",
    "aria-label": "How wide the map is",
    "aria-valuenow": 58,
    pointerdown: (event) => edge.setPointerCapture(event.pointerId),
    pointermove: (event) => {
      if (!edge.hasPointerCapture(event.pointerId)) return;
      const { left, width } = root.getBoundingClientRect();
      set((100 * (event.clientX - left)) / width);
    },
    keydown: (event) => {
      const step = { ArrowLeft: -4, ArrowRight: 4 }[event.key];
      if (!step) return;
      const now = Number(edge.getAttribute("aria-valuenow")) + step;
      edge.setAttribute("aria-valuenow", String(Math.min(85, Math.max(15, now))));
      set(now);
    },
  });
  return edge;
}

async function open(root) {
  const blocks = new Blocks(root);
  const given = await blocks.json(0);
  const layers = given.layers.map((layer, id) => new Layer(layer, id));
  const code = document.getElementById("polygene-page").textContent;
  const address = URL.createObjectURL(new Blob([code], { type: "text/javascript" }));
  const sorter = new Sorter(address);
  await Promise.all(layers.map((layer) => layer.open(blocks, sorter)));
  const nodes = given.grid ? await blocks.floats(given.grid.block) : null;
  const page = new Page(given, layers, new Earth(given, nodes));
  const painter = new Painter(address, (found) => map.take(found));
  page.painter = painter;
  for (const layer of layers) {
    if (layer.family !== "none") painter.add(layer.id, layer.forPainter());
  }
  const map = new MapView(page, painter);
  const said = make("output", { class: "unseen", "aria-live": "polite" });
  page.addEventListener("chosen", () => {
    const { current } = page;
    said.textContent = current
      ? `${current.layer.name}, row ${current.layer.numberOf(current.row)} chosen`
      : "nothing chosen";
  });
  root.querySelector(".opening")?.remove();
  root.append(map.element, seam(root), beside(page, map), said);
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => page.tell("theme"));
  root.look = { page, map, tables: page.tables }; // for those who script the page, and for its tests
}

if (typeof document === "undefined") work(self);
else {
  for (const root of document.querySelectorAll(".polygene-look")) {
    open(root).catch((error) => {
      const words = `This page could not be opened: ${error.message}. It needs a browser of 2023 or later.`;
      root.replaceChildren(make("p", { role: "alert" }, words));
      throw error;
    });
  }
}
