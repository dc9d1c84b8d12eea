/**
 * The lines of a table. Only rows and columns that are seen are in the document; a line is as high as
 * text of its size needs, and a table too high for a browser is scrolled in larger steps.
 */
import { cellOf } from "./columns.js";
import { make, own } from "./dom.js";
import { plain } from "./numbers.js";

const MOST_TALL = 8e6; // pixels: browsers cut what is higher
const [LEAST_WIDE, USUAL_WIDE, MOST_WIDE] = [48, 260, 900];
const HEAD = 2; // lines of the head: name and type
const LATER = 1500; // milliseconds
const LOOKED = 100; // rows that tell how wide a column is to be

export class Grid {
  /**
   * @param {object} table what is shown: its `layer`, `rows`, `sort` and `page`, and what clicks do
   */
  constructor(table) {
    Object.assign(this, { table, layer: table.layer });
    this.widths = this.layer.columns.map(({ name }) =>
      Math.min(USUAL_WIDE, Math.max(80, 9 * name.length + 30)),
    );
    this.fitted = new Set(); // columns that have the width of their values
    this.head = make("div", { class: "head", role: "row", "aria-rowindex": 1 });
    this.body = make("div", { class: "rows", role: "rowgroup" });
    this.spacer = make("div", { class: "spacer", "aria-hidden": "true" });
    this.element = make(
      "div",
      {
        class: "scroller",
        role: "grid",
        tabindex: 0,
        "aria-label": `Rows of ${this.layer.name}`,
        "aria-multiselectable": "true",
        "aria-colcount": this.layer.columns.length + 1,
        scroll: () => this.soon(),
        keydown: (event) => this.table.key(event),
      },
      this.head,
      this.spacer,
      this.body,
    );
    new ResizeObserver(() => {
      const k = this.table.current();
      if (k >= 0) this.reveal(k); // the card of a row takes room from the table
      this.render();
    }).observe(this.element);
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
    // Text can be twice as large as usual: lines grow with it.
    return Math.round(1.7 * parseFloat(getComputedStyle(this.element).fontSize));
  }

  /** How many lines are seen at once. */
  get count() {
    return Math.max(1, Math.floor(this.element.clientHeight / this.tall) - HEAD);
  }

  /** Which line is the first that is seen, and whether lines are scrolled one by one. */
  place() {
    const { element, tall } = this;
    const n = this.table.rows.length;
    const whole = (n + HEAD) * tall;
    const shown = Math.min(whole, MOST_TALL);
    this.spacer.style.height = `${shown}px`;
    const isWhole = shown === whole;
    const most = shown - element.clientHeight;
    const first = isWhole
      ? element.scrollTop / tall
      : Math.min(1, element.scrollTop / most) * (n - this.count);
    return { first: Math.max(0, Math.floor(first)), isWhole };
  }

  /** Which columns are seen, and where each begins. */
  columnsSeen() {
    const { element, widths } = this;
    const starts = [this.numberWide];
    for (const wide of widths) starts.push(starts.at(-1) + wide);
    const [left, right] = [element.scrollLeft, element.scrollLeft + element.clientWidth];
    const seen = widths.map((_, k) => k).filter((k) => starts[k + 1] >= left && starts[k] <= right);
    return { starts, seen };
  }

  get numberWide() {
    return 18 + 9 * String(this.layer.n).length;
  }

  render() {
    const { element, layer, tall } = this;
    if (!element.clientHeight) return;
    const { rows } = this.table;
    const { starts, seen } = this.columnsSeen();
    this.spacer.style.width = `${starts.at(-1)}px`;
    const { first, isWhole } = this.place();
    // Others may have opened them: the filter, or the facts of a row.
    this.openColumns(seen.filter((k) => !this.fitted.has(k)));
    element.setAttribute("aria-rowcount", String(rows.length + 1));
    this.renderHead(starts, seen, tall);
    this.body.style.transform = `translateY(${isWhole ? first * tall : element.scrollTop}px)`;
    const lines = [];
    for (let k = first; k < Math.min(rows.length, first + this.count + 2); k++) {
      lines.push(this.line(k, starts, seen, tall));
    }
    this.body.replaceChildren(...lines);
    if (rows.length === 0) {
      const words = layer.n ? "no row is as the filter asks" : "this layer has no rows";
      this.body.append(make("p", { class: "none" }, words));
    }
  }

  /** Open columns that have come in sight, and show them when they are there. */
  async openColumns(numbers) {
    if (numbers.length === 0) return;
    for (const k of numbers) this.fitted.add(k);
    await Promise.all(numbers.map((k) => this.layer.columns[k].open()));
    for (const k of numbers) this.fit(k);
    this.render();
    // The order of their values is there when it is asked for, and is not in the way of the first picture.
    setTimeout(() => numbers.forEach((k) => this.layer.columns[k].ranks()), LATER);
  }

  /** Give a column the width that its first values ask for. */
  fit(k) {
    const { values, name, type } = this.layer.columns[k];
    const lengths = values.slice(0, LOOKED).map((value) => (value === null ? 4 : String(value).length));
    const asked = 8 * Math.max(name.length + 2, type.length, ...lengths) + 22;
    this.widths[k] = Math.min(USUAL_WIDE, Math.max(LEAST_WIDE, asked));
  }

  setWidth(k, wide) {
    this.widths[k] = Math.max(LEAST_WIDE, Math.min(MOST_WIDE, wide));
    this.render();
  }

  renderHead(starts, seen, tall) {
    const { sort } = this.table;
    const at = `${starts.join()} ${seen.join()} ${tall} ${sort.column} ${sort.falls}`;
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
    const { sort } = this.table;
    const order = sort.column !== k ? "none" : sort.falls ? "descending" : "ascending";
    const mark = { none: "", ascending: " ▴", descending: " ▾" }[order];
    const cell = make(
      "span",
      {
        class: "cell",
        role: "columnheader",
        "aria-colindex": k + 2,
        "aria-sort": order,
        title: `${name}: ${type}`,
      },
      make(
        "button",
        { type: "button", "data-key": `s${k}`, click: () => this.table.sortBy(k) },
        own(name),
        make("span", { class: "mark", "aria-hidden": "true" }, mark),
        make("small", {}, type),
      ),
      this.edge(k),
    );
    cell.style.cssText = `left: ${left}px; width: ${this.widths[k]}px`;
    return cell;
  }

  /** The edge of a column, which makes it narrower or wider. */
  edge(k) {
    const pull = (event) => {
      event.preventDefault();
      const from = { x: event.clientX, wide: this.widths[k] };
      const move = (e) => this.setWidth(k, from.wide + e.clientX - from.x);
      const up = () => {
        window.removeEventListener("pointermove", move);
        window.removeEventListener("pointerup", up);
      };
      window.addEventListener("pointermove", move);
      window.addEventListener("pointerup", up);
    };
    const press = (event) => {
      const step = { ArrowLeft: -16, ArrowRight: 16 }[event.key];
      if (!step) return;
      event.preventDefault();
      event.stopPropagation();
      this.setWidth(k, this.widths[k] + step);
    };
    return make("span", {
      class: "edge",
      role: "separator",
      tabindex: 0,
      "aria-orientation": "vertical",
      "data-key": `e${k}`,
      "aria-label": `Width of ${this.layer.columns[k].name}`,
      "aria-valuenow": Math.round(this.widths[k]),
      keydown: press,
      pointerdown: pull,
    });
  }

  line(k, starts, seen, tall) {
    const { layer, table } = this;
    const row = table.rows[k];
    const number = make(
      "span",
      { class: "cell number", role: "rowheader", "aria-colindex": 1 },
      plain(layer.numberOf(row)),
    );
    number.style.width = `${this.numberWide}px`;
    const cells = seen.map((c) => {
      const { values, kind } = layer.columns[c];
      const given = { class: `cell ${kind}`, role: "gridcell", "aria-colindex": c + 2 };
      const cell = make("span", given, values ? cellOf(values[row]) : "…");
      cell.style.cssText = `left: ${starts[c]}px; width: ${this.widths[c]}px`;
      return cell;
    });
    const line = make(
      "div",
      {
        class: table.isCurrent(row) ? "line current" : "line",
        role: "row",
        "aria-rowindex": k + 2,
        "aria-selected": String(layer.chosen.has(row)),
        "data-row": row,
        click: (event) => table.click(k, event),
        dblclick: () => table.zoomTo(),
      },
      number,
      ...cells,
    );
    line.style.cssText = `height: ${tall}px; width: ${starts.at(-1)}px`;
    return line;
  }

  /** Scroll until a line is seen. */
  reveal(k) {
    const { element, tall, count } = this;
    const { first, isWhole } = this.place();
    if (k >= first && k < first + count) return;
    const middle = Math.max(0, k - Math.floor(count / 2));
    const most = parseFloat(this.spacer.style.height) - element.clientHeight;
    const share = middle / Math.max(1, this.table.rows.length - count);
    element.scrollTop = isWhole ? middle * tall : share * most;
  }
}
