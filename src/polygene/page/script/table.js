/**
 * The table of a layer. Only rows and columns that are seen are in the document; a row is as high as
 * text of its size needs, and a table too high for a browser is scrolled in larger steps.
 */
import { cellOf, sorted } from "./columns.js";
import { button, make, own } from "./dom.js";
import { filterOf } from "./filter.js";
import { counted, plain } from "./numbers.js";
import { copy, csvOf, geojsonOf, save } from "./saving.js";

const MOST_TALL = 8e6; // pixels: browsers cut what is higher
const [LEAST_WIDE, MOST_WIDE] = [48, 260];
const HEAD = 2; // lines of the head: name and type
const LOOKED = 100; // rows that tell how wide a column is to be

export class Table {
  /** @param {object} page @param {object} layer @param {object} map */
  constructor(page, layer, map) {
    Object.assign(this, { page, layer, map });
    this.rows = Uint32Array.from({ length: layer.n }, (_, row) => row);
    this.sort = { column: -1, falls: false };
    this.widths = layer.columns.map(({ name }) => Math.min(MOST_WIDE, Math.max(80, 9 * name.length + 30)));
    this.build();
    page.addEventListener("chosen", () => this.chosenChanged());
    new ResizeObserver(() => {
      const k = this.current();
      if (k >= 0) this.reveal(k); // the card of a row takes room from the table
      this.render();
    }).observe(this.scroller);
  }

  build() {
    const { layer } = this;
    this.sought = make("input", {
      type: "search", placeholder: "Filter: words, or depth > 10",
      "aria-label": `Filter the rows of ${layer.name}`, input: () => this.filter(),
    });
    this.alsoMap = make("input", { type: "checkbox", change: () => this.maskMap() });
    this.onlyChosen = make("input", { type: "checkbox", change: () => this.filter() });
    this.said = make("output", { class: "said", "aria-live": "polite" });
    this.head = make("div", { class: "head", role: "row", "aria-rowindex": 1 });
    this.body = make("div", { class: "rows", role: "rowgroup" });
    this.spacer = make("div", { class: "spacer", "aria-hidden": "true" });
    this.scroller = make("div", {
      class: "scroller", role: "grid", tabindex: 0, "aria-label": `Rows of ${layer.name}`,
      "aria-multiselectable": "true", "aria-colcount": layer.columns.length + 1,
      scroll: () => this.soon(), keydown: (event) => this.key(event),
    }, this.head, this.spacer, this.body);
    const save = (words, does) => button(words, () => this.hand(does), { "data-save": words });
    this.element = make("div", { class: "table" },
      make("div", { class: "ask" }, this.sought,
        make("label", {}, this.alsoMap, "on the map too"),
        make("label", {}, this.onlyChosen, "chosen only")),
      this.scroller,
      make("div", { class: "ask" }, this.said,
        button("Zoom to", () => this.zoomTo()),
        save("Copy", async (rows) => copy(await csvOf(layer, rows))),
        save("CSV", async (rows) => this.save(await csvOf(layer, rows), "csv", "text/csv")),
        save("GeoJSON", async (rows) => this.save(await geojsonOf(layer, rows, this.page.earth), "geojson", "application/geo+json"))));
  }

  save(text, ending, type) {
    save(text, `${this.layer.name}.${ending}`, type);
  }

  /** Hand over what is chosen, or all that the table shows. */
  async hand(does) {
    const rows = this.layer.chosen.size ? Uint32Array.from(this.layer.chosen).sort() : this.rows;
    await does(rows);
    this.say(`${counted(rows.length, "row")} handed over${this.layer.chosen.size ? ", those chosen" : ""}`);
  }

  say(note = "") {
    const { layer, rows } = this;
    const shown = rows.length === layer.n ? counted(layer.n, "row") : `${plain(rows.length)} of ${counted(layer.n, "row")}`;
    const chosen = layer.chosen.size ? `, ${plain(layer.chosen.size)} chosen` : "";
    this.said.textContent = `${shown}${chosen}${note ? ` (${note})` : ""}`;
  }

  async filter() {
    const { layer, sought } = this;
    const text = sought.value;
    const turn = (this.turn = (this.turn ?? 0) + 1);
    const { keeps, note } = text.trim() ? await filterOf(text, layer.columns) : { keeps: () => true, note: "" };
    if (turn !== this.turn) return; // more was typed meanwhile
    const only = this.onlyChosen.checked;
    const all = Uint32Array.from({ length: layer.n }, (_, row) => row);
    this.kept = all.filter((row) => keeps(row) && (!only || layer.chosen.has(row)));
    this.note = note;
    await this.order();
    this.maskMap();
  }

  /** Put the rows in the order that was asked for. */
  async order() {
    const { layer, sort } = this;
    const kept = this.kept ?? Uint32Array.from({ length: layer.n }, (_, row) => row);
    if (sort.column < 0) this.rows = kept;
    else {
      const column = layer.columns[sort.column];
      await column.open();
      this.rows = sorted(kept, (column.rank ??= column.ranks()), sort.falls);
    }
    this.say(this.note);
    this.render();
  }

  maskMap() {
    const { layer, rows } = this;
    const isAll = !this.alsoMap.checked || rows.length === layer.n;
    if (isAll && !layer.mask) return;
    layer.mask = isAll ? null : new Uint8Array(layer.n);
    if (layer.mask) for (const row of rows) layer.mask[row] = 1;
    this.page.masked(layer);
  }

  async sortBy(column) {
    const { sort } = this;
    if (sort.column !== column) this.sort = { column, falls: false };
    else if (!sort.falls) this.sort = { column, falls: true };
    else this.sort = { column: -1, falls: false };
    await this.order();
  }

  soon() {
    if (this.isAsked) return;
    this.isAsked = true;
    requestAnimationFrame(() => {
      this.isAsked = false;
      this.render();
    });
  }

  get tall() {
    // Text can be twice as large as usual: rows grow with it.
    return Math.round(1.7 * parseFloat(getComputedStyle(this.scroller).fontSize));
  }

  /** How far rows are shifted by what is scrolled, and which is the first that is seen. */
  place() {
    const { scroller, rows, tall } = this;
    const whole = (rows.length + HEAD) * tall;
    const shown = Math.min(whole, MOST_TALL);
    this.spacer.style.height = `${shown}px`;
    const seen = Math.max(1, scroller.clientHeight - HEAD * tall);
    const most = shown - scroller.clientHeight;
    const first = most > 0 && shown < whole
      ? (Math.min(1, scroller.scrollTop / most)) * (rows.length - Math.floor(seen / tall))
      : scroller.scrollTop / tall;
    return { first: Math.max(0, Math.floor(first)), count: Math.ceil(seen / tall) + 1, isWhole: shown === whole };
  }

  /** Which columns are seen, and where each begins. */
  columnsSeen() {
    const { scroller, widths } = this;
    const starts = [this.numberWide];
    for (const wide of widths) starts.push(starts.at(-1) + wide);
    const [left, right] = [scroller.scrollLeft, scroller.scrollLeft + scroller.clientWidth];
    const seen = widths.map((_, k) => k).filter((k) => starts[k + 1] >= left && starts[k] <= right);
    return { starts, seen };
  }

  get numberWide() {
    return 18 + 9 * String(this.layer.n).length;
  }

  render() {
    const { scroller, layer, tall } = this;
    if (!scroller.clientHeight) return;
    const { starts, seen } = this.columnsSeen();
    this.spacer.style.width = `${starts.at(-1)}px`;
    const { first, count, isWhole } = this.place();
    const unopened = seen.filter((k) => !layer.columns[k].values);
    if (unopened.length) {
      Promise.all(unopened.map((k) => layer.columns[k].open())).then(() => {
        for (const k of unopened) this.fit(k);
        this.render();
      });
    }
    scroller.setAttribute("aria-rowcount", String(this.rows.length + 1));
    this.renderHead(starts, seen, tall);
    const top = isWhole ? first * tall : scroller.scrollTop;
    this.body.style.transform = `translateY(${top}px)`;
    const lines = [];
    for (let k = first; k < Math.min(this.rows.length, first + count); k++) {
      lines.push(this.line(k, starts, seen, tall));
    }
    this.body.replaceChildren(...lines);
    if (this.rows.length === 0) {
      const words = layer.n ? "no row is as the filter asks" : "this layer has no rows";
      this.body.append(make("p", { class: "none" }, words));
    }
  }

  /** Give a column the width that its first values ask for. */
  fit(k) {
    const { values, name } = this.layer.columns[k];
    const longest = values.slice(0, LOOKED).reduce((most, v) => Math.max(most, v === null ? 4 : String(v).length), 0);
    const asked = 8 * Math.max(longest, name.length + 2) + 22;
    this.widths[k] = Math.min(MOST_WIDE, Math.max(LEAST_WIDE, asked));
  }

  renderHead(starts, seen, tall) {
    const at = `${starts.join()} ${seen.join()} ${tall} ${this.sort.column} ${this.sort.falls}`;
    if (at === this.headAt) return;
    this.headAt = at;
    const focus = this.head.contains(document.activeElement) ? document.activeElement.dataset.key : null;
    const cells = seen.map((k) => this.headCell(k, starts[k]));
    const number = make("span", { class: "cell number", role: "columnheader", "aria-colindex": 1 }, "row");
    number.style.width = `${this.numberWide}px`;
    this.head.style.cssText = `height: ${HEAD * tall}px; width: ${starts.at(-1)}px`;
    this.head.replaceChildren(number, ...cells);
    if (focus) this.head.querySelector(`[data-key="${focus}"]`)?.focus();
  }

  headCell(k, left) {
    const { name, type } = this.layer.columns[k];
    const is = this.sort.column === k;
    const cell = make("span", {
      class: "cell", role: "columnheader", "aria-colindex": k + 2, title: `${name}: ${type}`,
      "aria-sort": is ? (this.sort.falls ? "descending" : "ascending") : "none",
    },
    make("button", { type: "button", "data-key": `s${k}`, click: () => this.sortBy(k) },
      own(name), make("span", { class: "mark", "aria-hidden": "true" }, is ? (this.sort.falls ? " ▾" : " ▴") : ""),
      make("small", {}, type)),
    this.edge(k));
    cell.style.cssText = `left: ${left}px; width: ${this.widths[k]}px`;
    return cell;
  }

  /** The edge of a column, which makes it narrower or wider. */
  edge(k) {
    const set = (wide) => {
      this.widths[k] = Math.max(LEAST_WIDE, Math.min(900, wide));
      this.render();
    };
    let from = null;
    const edge = make("span", {
      class: "edge", role: "separator", tabindex: 0, "aria-orientation": "vertical", "data-key": `e${k}`,
      "aria-label": `Width of ${this.layer.columns[k].name}`, "aria-valuenow": Math.round(this.widths[k]),
      keydown: (event) => {
        const step = { ArrowLeft: -16, ArrowRight: 16 }[event.key];
        if (step) {
          event.preventDefault();
          event.stopPropagation();
          set(this.widths[k] + step);
        }
      },
      pointerdown: (event) => {
        event.preventDefault();
        from = { x: event.clientX, wide: this.widths[k] };
        const move = (e) => set(from.wide + e.clientX - from.x);
        const up = () => {
          window.removeEventListener("pointermove", move);
          window.removeEventListener("pointerup", up);
        };
        window.addEventListener("pointermove", move);
        window.addEventListener("pointerup", up);
      },
    });
    return edge;
  }

  line(k, starts, seen, tall) {
    const { layer, page } = this;
    const row = this.rows[k];
    const isChosen = layer.chosen.has(row);
    const isCurrent = page.current?.layer === layer && page.current.row === row;
    const number = make("span", { class: "cell number", role: "rowheader", "aria-colindex": 1 }, plain(layer.numberOf(row)));
    number.style.width = `${this.numberWide}px`;
    const cells = seen.map((c) => {
      const { values, kind } = layer.columns[c];
      const cell = make("span", { class: `cell ${kind}`, role: "gridcell", "aria-colindex": c + 2 }, values ? cellOf(values[row]) : "…");
      cell.style.cssText = `left: ${starts[c]}px; width: ${this.widths[c]}px`;
      return cell;
    });
    const line = make("div", {
      class: `line${isCurrent ? " current" : ""}`, role: "row", "aria-rowindex": k + 2,
      "aria-selected": String(isChosen), "data-row": row, click: (event) => this.click(k, event),
      dblclick: () => this.zoomTo(),
    }, number, ...cells);
    line.style.cssText = `height: ${tall}px; width: ${starts.at(-1)}px`;
    return line;
  }

  click(k, event) {
    const row = this.rows[k];
    if (event.shiftKey && this.last !== undefined) {
      const [a, b] = [this.last, k].sort((x, y) => x - y);
      this.page.choose(this.layer, this.rows.slice(a, b + 1), "only");
    } else this.page.choose(this.layer, [row], event.ctrlKey || event.metaKey ? "turn" : "only");
    if (!event.shiftKey) this.last = k;
  }

  key(event) {
    const { rows, tall, scroller } = this;
    const page = Math.max(1, Math.floor(scroller.clientHeight / tall) - 2);
    const now = this.current();
    const to = {
      ArrowDown: now + 1, ArrowUp: now < 0 ? 0 : now - 1, PageDown: now + page, PageUp: now - page,
      Home: 0, End: rows.length - 1,
    }[event.key];
    if (event.key === "Enter") this.zoomTo();
    else if (event.key === "Escape") this.page.chooseNone();
    else if (event.key === "a" && (event.ctrlKey || event.metaKey)) this.page.choose(this.layer, rows, "only");
    else if (to === undefined || event.target !== scroller) return;
    else if (rows.length) {
      const k = Math.min(rows.length - 1, Math.max(0, to));
      this.page.choose(this.layer, [rows[k]], "only");
      this.last = k;
    }
    event.preventDefault();
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
    if (k >= 0) this.reveal(k);
    this.render();
  }

  /** Scroll until a row is seen. */
  reveal(k) {
    const { scroller, tall, rows } = this;
    const { first, count, isWhole } = this.place();
    if (k >= first && k < first + count - 2) return;
    const middle = Math.max(0, k - Math.floor(count / 2));
    const most = parseFloat(this.spacer.style.height) - scroller.clientHeight;
    scroller.scrollTop = isWhole ? middle * tall : (middle / Math.max(1, rows.length - count + 1)) * most;
  }

  zoomTo() {
    const rows = this.layer.chosen.size ? this.layer.chosen : this.rows;
    const box = this.layer.boxOf(rows);
    if (box) this.map.showBox(box, 0.15);
    else this.say("no geometry to zoom to");
  }
}
