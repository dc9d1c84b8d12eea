/** The table of a layer: what is sorted, filtered and chosen; its lines are a `Grid`. */
import { sorted } from "./columns.js";
import { button, make } from "./dom.js";
import { filterOf } from "./filter.js";
import { Grid } from "./grid.js";
import { counted, plain } from "./numbers.js";
import { copy, csvOf, geojsonOf, save } from "./saving.js";

export class Table {
  /** @param {object} page @param {object} layer @param {object} map */
  constructor(page, layer, map) {
    Object.assign(this, { page, layer, map });
    this.rows = this.allRows();
    this.kept = this.rows;
    this.sort = { column: -1, falls: false };
    this.turn = 0;
    this.note = "";
    this.grid = new Grid(this);
    this.element = make("div", { class: "table" }, this.asking(), this.grid.element, this.handing());
    page.addEventListener("chosen", () => this.chosenChanged());
    this.say();
  }

  allRows() {
    return Uint32Array.from({ length: this.layer.n }, (_, row) => row);
  }

  asking() {
    this.sought = make("input", {
      type: "search",
      placeholder: "Filter: words, or depth > 10",
      "aria-label": `Filter the rows of ${this.layer.name}`,
      input: () => this.filter(),
    });
    this.alsoMap = make("input", { type: "checkbox", change: () => this.maskMap() });
    this.onlyChosen = make("input", { type: "checkbox", change: () => this.filter() });
    return make(
      "div",
      { class: "ask" },
      this.sought,
      make("label", {}, this.alsoMap, "on the map too"),
      make("label", {}, this.onlyChosen, "chosen only"),
    );
  }

  handing() {
    const { layer, page } = this;
    this.said = make("output", { class: "said", "aria-live": "polite" });
    const hand = (words, does) => button(words, () => this.hand(does), { "data-save": words });
    const file = (ending, type, text) => save(text, `${layer.name}.${ending}`, type);
    return make(
      "div",
      { class: "ask" },
      this.said,
      button("Zoom to", () => this.zoomTo()),
      hand("Copy", async (rows) => copy(await csvOf(layer, rows))),
      hand("CSV", async (rows) => file("csv", "text/csv", await csvOf(layer, rows))),
      hand("GeoJSON", async (rows) =>
        file("geojson", "application/geo+json", await geojsonOf(layer, rows, page.earth)),
      ),
    );
  }

  /** Hand over what is chosen, or all that the table shows. */
  async hand(does) {
    const { chosen } = this.layer;
    const rows = chosen.size ? Uint32Array.from(chosen).sort() : this.rows;
    await does(rows);
    this.say(`${counted(rows.length, "row")} handed over${chosen.size ? ", those chosen" : ""}`);
  }

  say(note = "") {
    const { layer, rows } = this;
    const all = counted(layer.n, "row");
    const shown = rows.length === layer.n ? all : `${plain(rows.length)} of ${all}`;
    const chosen = layer.chosen.size ? `, ${plain(layer.chosen.size)} chosen` : "";
    this.said.textContent = `${shown}${chosen}${note ? ` (${note})` : ""}`;
  }

  async filter() {
    const { layer, sought } = this;
    const turn = ++this.turn;
    const asked = sought.value.trim();
    const { keeps, note } = asked ? await filterOf(asked, layer.columns) : { keeps: () => true, note: "" };
    if (turn !== this.turn) return; // more was typed meanwhile
    const only = this.onlyChosen.checked;
    this.kept = this.allRows().filter((row) => keeps(row) && (!only || layer.chosen.has(row)));
    this.note = note;
    await this.order();
    this.maskMap();
  }

  /** Put the rows in the order that was asked for. */
  async order() {
    const { layer, sort, kept } = this;
    if (sort.column < 0) this.rows = kept;
    else {
      const column = layer.columns[sort.column];
      const ranks = await column.ranks();
      if (sort !== this.sort) return; // another was asked for meanwhile
      this.rows = sorted(kept, ranks, sort.falls, column.kind === "text");
    }
    this.say(this.note);
    this.grid.render();
  }

  /** By a column, first rising, then falling, then as they were. */
  async sortBy(column) {
    const { sort } = this;
    if (sort.column !== column) this.sort = { column, falls: false };
    else if (!sort.falls) this.sort = { column, falls: true };
    else this.sort = { column: -1, falls: false };
    await this.order();
  }

  /** Show on the map what the filter keeps, if that is asked for. */
  maskMap() {
    const { layer, rows } = this;
    const isAll = !this.alsoMap.checked || rows.length === layer.n;
    if (isAll && !layer.mask) return;
    layer.mask = isAll ? null : new Uint8Array(layer.n);
    if (layer.mask) for (const row of rows) layer.mask[row] = 1;
    this.page.masked(layer);
  }

  click(k, event) {
    const row = this.rows[k];
    if (event.shiftKey && this.last !== undefined) {
      const [a, b] = [this.last, k].sort((x, y) => x - y);
      this.page.choose(this.layer, this.rows.slice(a, b + 1), "only");
      return;
    }
    this.page.choose(this.layer, [row], event.ctrlKey || event.metaKey ? "turn" : "only");
    this.last = k;
  }

  key(event) {
    const { rows, grid } = this;
    const now = this.current();
    const to = {
      ArrowDown: now + 1,
      ArrowUp: now - 1,
      PageDown: now + grid.count,
      PageUp: now - grid.count,
      Home: 0,
      End: rows.length - 1,
    }[event.key];
    if (event.target !== grid.element) return;
    if (event.key === "Enter") this.zoomTo();
    else if (event.key === "Escape") this.page.chooseNone();
    else if (event.key === "a" && (event.ctrlKey || event.metaKey))
      this.page.choose(this.layer, rows, "only");
    else if (to === undefined || rows.length === 0) return;
    else {
      const k = Math.min(rows.length - 1, Math.max(0, to));
      this.page.choose(this.layer, [rows[k]], "only");
      this.last = k;
    }
    event.preventDefault();
  }

  isCurrent(row) {
    const { current } = this.page;
    return current?.layer === this.layer && current.row === row;
  }

  /** Where the current row is in the table, -1 if it is not. */
  current() {
    const { current } = this.page;
    return current?.layer === this.layer ? this.rows.indexOf(current.row) : -1;
  }

  chosenChanged() {
    this.say(this.note);
    if (this.onlyChosen.checked) this.filter();
    const k = this.current();
    if (k >= 0) this.grid.reveal(k);
    this.grid.render();
  }

  zoomTo() {
    const { chosen } = this.layer;
    const box = this.layer.boxOf(chosen.size ? chosen : this.rows);
    if (box) this.map.visit(box, 0.15);
    else this.say("no geometry to zoom to");
  }
}
