/** The map: the painter's last picture where it belongs now, and over it what changes at once. */
import { button, make, own } from "./dom.js";
import { listen } from "./gestures.js";
import { rowsAt, rowsIn } from "./hits.js";
import { areaWords, lengthWords, placeWords, plain, roundBelow } from "./numbers.js";
import { Chosen, drawBox, drawLabels, drawMarks, drawMeasured, drawPointed, movedTo } from "./overlay.js";

const MARGIN = 96; // pixels around what is seen that are painted too, so that a short way shows no edge
const CLOSE = 1.6; // times that a picture may be enlarged or made smaller while the map moves
const IDLE = 90; // milliseconds without a move until a new one is asked for
const PAUSE = 400; // milliseconds from one that is asked for to the next while the map moves
const NEAR = 6; // pixels that a click may be off
const MOST_SCALE = 0.5; // pixels in a packed unit: closer, and rounding would be seen
export const MODES = {
  move: "Move",
  zoom: "Zoom box",
  choose: "Choose in box",
  measure: "Measure",
};

export class MapView {
  /**
   * @param {object} page layers, earth, and the events that tell what changed
   * @param {object} painter
   */
  constructor(page, painter) {
    Object.assign(this, { page, painter });
    this.canvas = make("canvas", {
      tabindex: 0,
      role: "img",
      "aria-label": "Map. Arrow keys move it, plus and minus zoom, 0 shows all; the table has the same rows.",
    });
    this.divider = make(
      "div",
      {
        class: "divider",
        role: "slider",
        tabindex: 0,
        "aria-label": "Where before ends and after begins",
        "aria-valuemin": 0,
        "aria-valuemax": 100,
        "aria-valuenow": 50,
        hidden: !page.hasSides,
      },
      make("span", { class: "side" }, "before"),
      make("span", { class: "side" }, "after"),
    );
    this.told = make("output", { class: "told", "aria-live": "off" });
    this.bar = make(
      "div",
      { class: "bar" },
      make("span", { class: "length" }),
      make("span", { class: "words" }),
    );
    this.where = make("div", { class: "where" });
    this.tools = make("div", { class: "tools", role: "toolbar", "aria-label": "Map" }, ...this.toolButtons());
    this.frame = make("div", { class: "frame" }, this.canvas, this.divider, this.bar, this.told);
    this.element = make("section", { class: "map", "aria-label": "Map" }, this.tools, this.frame, this.where);
    this.view = { x: 0, y: 0, scale: 1, wide: 1, tall: 1 };
    this.split = 0.5;
    this.mode = "move";
    /** @type {[number, number][]} */
    this.measured = [];
    this.marks = [];
    this.pointed = null;
    this.box = null;
    this.isAsked = false;
    this.chosen = new Chosen();
    page.addEventListener("look", () => this.repaint());
    page.addEventListener("chosen", () => {
      this.chosen.forget();
      this.draw();
    });
    page.addEventListener("theme", () => this.draw());
    new ResizeObserver(() => this.resize()).observe(this.frame);
    listen(this);
  }

  toolButtons() {
    this.modeButtons = Object.entries(MODES).map(([mode, words]) =>
      button(words, () => this.setMode(mode), { "data-mode": mode, "aria-pressed": mode === "move" }),
    );
    return [
      button("+", () => this.zoom(2), { "aria-label": "Zoom in" }),
      button("−", () => this.zoom(0.5), { "aria-label": "Zoom out" }),
      button("Whole", () => this.showAll()),
      make("span", { class: "group" }, ...this.modeButtons),
    ];
  }

  setMode(mode) {
    this.mode = mode;
    this.measured = [];
    this.told.textContent = mode === "measure" ? "Click the corners of a line or an area; Esc ends." : "";
    for (const one of this.modeButtons) one.setAttribute("aria-pressed", String(one.dataset.mode === mode));
    this.canvas.dataset.mode = mode;
    this.draw();
  }

  resize() {
    const { clientWidth: wide, clientHeight: tall } = this.frame;
    if (!wide || !tall) return;
    const first = this.view.wide === 1;
    this.ratio = Math.min(2, window.devicePixelRatio || 1);
    this.canvas.width = Math.round(wide * this.ratio);
    this.canvas.height = Math.round(tall * this.ratio);
    this.view = { ...this.view, wide, tall };
    if (first) this.showAll();
    else this.repaint();
  }

  /** Show a box of the map, with some room around it. */
  showBox([x0, y0, x1, y1], room = 0.06) {
    const { wide, tall } = this.view;
    const least = x0 === x1 && y0 === y1 ? this.page.given.near : 40 / MOST_SCALE;
    const [w, h] = [Math.max(x1 - x0, least), Math.max(y1 - y0, least)];
    const scale = Math.min(wide / w, tall / h) * (1 - 2 * room);
    this.go({ x: (x0 + x1) / 2, y: (y0 + y1) / 2, scale });
  }

  /** Show a box that was asked for elsewhere on the page, where the map may be out of sight. */
  visit(box, room) {
    this.showBox(box, room);
    this.element.scrollIntoView({ block: "nearest" });
  }

  showAll() {
    this.showBox(this.page.given.view, 0.02);
  }

  go(part) {
    this.view = { ...this.view, ...part };
    this.view.scale = Math.min(MOST_SCALE, Math.max(1e-9, this.view.scale));
    clearTimeout(this.idle);
    // While it moves, the last picture will do; two threads that paint all the time take from each other.
    const wait = this.covers() ? IDLE : Math.min(IDLE, this.askedAt + PAUSE - performance.now());
    if (wait <= 0 || !this.picture) this.repaint();
    else {
      this.idle = setTimeout(() => this.repaint(), wait);
      this.draw();
    }
  }

  /** Whether the last picture, moved and scaled, still fills what is seen. */
  covers() {
    if (!this.picture) return false;
    const { view } = this;
    const was = this.picture.view;
    const grown = view.scale / was.scale;
    if (grown > CLOSE || grown < 1 / CLOSE) return false;
    const left = Math.abs(was.x - view.x) * view.scale + view.wide / 2;
    const top = Math.abs(was.y - view.y) * view.scale + view.tall / 2;
    return left <= (was.wide / 2) * grown && top <= (was.tall / 2) * grown;
  }

  /** Zoom by a factor about a place in pixels, the middle if none is given. */
  zoom(factor, px = this.view.wide / 2, py = this.view.tall / 2) {
    const { x, y, wide, tall, scale } = this.view;
    const next = Math.min(MOST_SCALE, scale * factor);
    const [dx, dy] = [px - wide / 2, tall / 2 - py];
    this.go({ scale: next, x: x + dx / scale - dx / next, y: y + dy / scale - dy / next });
  }

  /** Move what is shown by pixels. */
  pan(dx, dy) {
    const { x, y, scale } = this.view;
    this.go({ x: x - dx / scale, y: y + dy / scale });
  }

  /** Put the divider at a share of the width. */
  slideTo(share) {
    this.split = Math.min(1, Math.max(0, share));
    this.divider.setAttribute("aria-valuenow", String(Math.round(100 * this.split)));
    this.draw();
  }

  /** From pixels to the map. @returns {[number, number]} */
  placeOf(px, py) {
    const { x, y, scale, wide, tall } = this.view;
    return [x + (px - wide / 2) / scale, y + (tall / 2 - py) / scale];
  }

  /** The sides that are painted, each with its layers from the bottom up. */
  sides() {
    const of = (side) => this.layersOn(side).map(({ id, opacity }) => ({ id, opacity }));
    return this.page.hasSides ? [of("before"), of("after")] : [of("after")];
  }

  /** Ask for a new picture, and show the last one meanwhile. */
  repaint() {
    const { view, ratio } = this;
    if (view.wide === 1) return;
    this.askedAt = performance.now();
    const around = { ...view, wide: view.wide + 2 * MARGIN, tall: view.tall + 2 * MARGIN };
    this.painter.ask({ view: around, ratio, sides: this.sides() });
    this.draw();
  }

  /** A picture has come. */
  take(found) {
    for (const { image } of this.picture?.sides ?? []) image.close();
    this.picture = found;
    const { x, y, scale } = found.view;
    const isAtRest = x === this.view.x && y === this.view.y && scale === this.view.scale;
    if (isAtRest && !this.painter.isBusy) this.chosen.forget();
    this.draw();
  }

  draw() {
    if (this.isAsked) return;
    this.isAsked = true;
    requestAnimationFrame(() => {
      this.isAsked = false;
      this.drawNow();
    });
  }

  drawNow() {
    const { canvas, view } = this;
    const context = canvas.getContext("2d");
    const style = getComputedStyle(this.frame);
    const colours = { paper: style.getPropertyValue("--map"), ink: style.getPropertyValue("--ink") };
    context.setTransform(this.ratio, 0, 0, this.ratio, 0, 0);
    context.fillStyle = colours.paper;
    context.fillRect(0, 0, view.wide, view.tall);
    if (this.picture) this.drawPicture(context, colours);
    this.onSides(context, (side) => this.chosen.draw(context, side, this.layersOn(side), view));
    drawPointed(context, this.pointed, view);
    drawMarks(context, this.marks, view);
    drawMeasured(context, this.measured, view);
    drawBox(context, this.box);
    this.drawBar();
    this.divider.style.left = `${this.split * 100}%`;
  }

  drawPicture(context, colours) {
    const { view } = this;
    const { view: was, sides } = this.picture;
    const place = movedTo(was, view);
    this.onSides(context, (_, k) => {
      const { image, labels } = sides[k];
      // At rest a picture is shown as it is; while it is scaled, smoothing it would cost a frame in twenty.
      context.imageSmoothingEnabled = false;
      context.drawImage(image, ...place);
      drawLabels(context, labels, view, colours);
    });
  }

  /** Draw each side up to the divider; where there is none, all at once. */
  onSides(context, draws) {
    if (!this.page.hasSides) return draws("after", 0);
    const { wide, tall } = this.view;
    const at = this.split * wide;
    [
      ["before", 0, at],
      ["after", at, wide - at],
    ].forEach(([side, left, width], k) => {
      context.save();
      context.beginPath();
      context.rect(left, 0, width, tall);
      context.clip();
      draws(side, k);
      context.restore();
    });
  }

  /** The layers that are shown on a side, from the bottom up. */
  layersOn(side) {
    const isOn = (layer) => !this.page.hasSides || layer.side === side || layer.side === "both";
    return this.page.layers.filter((layer) => layer.isShown && layer.family !== "none" && isOn(layer));
  }

  /** The scale bar, of a round length. */
  drawBar() {
    const { earth } = this.page;
    const [, y] = [this.view.x, this.view.y];
    const half = 50 / this.view.scale;
    const length = earth.distance([this.view.x - half, y], [this.view.x + half, y]);
    this.bar.hidden = !(length > 0);
    if (this.bar.hidden) return;
    const round = roundBelow(length);
    this.bar.firstChild.style.width = `${(100 * round) / length}px`;
    this.bar.lastChild.textContent = lengthWords(round, earth.unit);
  }

  /** What is under the pointer is said below the map. */
  point(px, py) {
    const [x, y] = this.placeOf(px, py);
    const { earth, given } = this.page;
    const degrees = earth.degrees(x, y);
    const { isGeographic, digits, unit } = given.map;
    const words = isGeographic ? [] : earth.coordinates(x, y).map((value) => plain(value, digits));
    this.where.replaceChildren(make("span", {}, isGeographic ? "" : `${words.join(", ")} ${unit}`));
    if (degrees) this.where.append(make("span", {}, placeWords(degrees, given.digits.shown)));
    const found = this.at(px, py);
    const row = found?.layer.nameOf(found.row);
    if (found) {
      this.where.append(
        make(
          "span",
          {},
          own(found.layer.name),
          ` row ${plain(found.layer.numberOf(found.row))}`,
          row ? ": " : "",
          own(row ?? ""),
        ),
      );
    }
    if (found?.row !== this.pointed?.row || found?.layer !== this.pointed?.layer) {
      this.pointed = found;
      this.draw();
    }
  }

  leave() {
    this.pointed = null;
    this.where.replaceChildren();
    this.draw();
  }

  /** Layers that can be met at a place, the uppermost first. */
  layersAt(px) {
    return this.layersOn(px < this.split * this.view.wide ? "before" : "after").reverse();
  }

  /** All rows at a place in pixels. @returns {{layer: object, row: number}[]} */
  allAt(px, py) {
    const [x, y] = this.placeOf(px, py);
    return this.layersAt(px).flatMap((layer) =>
      rowsAt(layer, x, y, NEAR / this.view.scale).map((row) => ({ layer, row })),
    );
  }

  at(px, py) {
    return this.allAt(px, py)[0] ?? null;
  }

  /** Choose what is clicked; clicked again, what lies below it. */
  click(px, py, isMore) {
    if (this.mode === "measure") return this.measure(px, py);
    const found = this.allAt(px, py);
    const { current } = this.page;
    const now = found.findIndex((hit) => current && hit.layer === current.layer && hit.row === current.row);
    const hit = found[isMore ? 0 : (now + 1) % (found.length || 1)];
    if (!hit) {
      if (!isMore) this.page.chooseNone();
    } else this.page.choose(hit.layer, [hit.row], isMore ? "turn" : "only");
    this.marks = [];
  }

  chooseIn(px0, py0, px1, py1, isMore) {
    const [x0, y1] = this.placeOf(px0, py0);
    const [x1, y0] = this.placeOf(px1, py1);
    if (!isMore) this.page.chooseNone();
    for (const layer of this.layersAt(px0)) {
      const rows = rowsIn(layer, x0, y0, x1, y1);
      if (rows.length) this.page.choose(layer, rows, "add");
    }
  }

  measure(px, py) {
    this.measured.push(this.placeOf(px, py));
    const { earth } = this.page;
    let length = 0;
    for (let k = 1; k < this.measured.length; k++) {
      length += earth.distance(this.measured[k - 1], this.measured[k]);
    }
    const words = Number.isNaN(length) ? "length not known here" : lengthWords(length, earth.unit);
    const size = this.measured.length > 2 ? earth.area(this.measured) : NaN;
    const area = Number.isNaN(size) ? "" : `, area ${areaWords(size, earth.unit)}`;
    this.told.textContent = `${words}${area} ${this.page.given.ways.words}`;
    this.draw();
  }

  /** Mark places of a layer and show them, as those of a problem; the divider makes room for its side. */
  mark(places, box, side) {
    this.marks = places;
    if (side !== "both") this.slideTo(side === "before" ? 0.8 : 0.2);
    this.visit(box, 0.2);
  }
}
