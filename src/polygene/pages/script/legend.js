/** The list of layers: on and off, their order, how much shines through, and what colours mean. */
import { button, make, own, swatch } from "./dom.js";
import { counted, plain } from "./numbers.js";

const MOST_CLASSES = 24;

export class Legend {
  constructor(page, map) {
    Object.assign(this, { page, map });
    this.list = make("ul", { class: "layers" });
    this.element = make("section", { class: "legend", "aria-label": "Layers" }, this.list);
    this.render();
  }

  /** The uppermost layer of the map stands first. */
  render() {
    this.list.replaceChildren(...[...this.page.layers].reverse().map((layer) => this.item(layer)));
  }

  item(layer) {
    const { page } = this;
    const { family, look, classes } = layer;
    const box = make("input", {
      type: "checkbox",
      checked: layer.isShown,
      disabled: family === "none",
      "data-layer": layer.id,
      change: (event) => page.show(layer, event.target.checked),
    });
    const sign = family === "none" || classes ? "" : swatch(family, look, look.colours[0]);
    const name = make(
      "label",
      {},
      box,
      sign,
      own(layer.name, { class: "name" }),
      make(
        "small",
        {},
        family === "none" ? `${counted(layer.n, "row")}, no geometry` : counted(layer.n, "row"),
      ),
    );
    return make(
      "li",
      {},
      make("div", { class: "one" }, name, ...(family === "none" ? [] : this.handles(layer))),
      this.classes(layer),
    );
  }

  handles(layer) {
    const { page, map } = this;
    const see = make("input", {
      type: "range",
      min: 0,
      max: 100,
      value: Math.round(100 * layer.opacity),
      "aria-label": `How solid ${layer.name} is, in per cent`,
      title: "how solid",
      input: (event) => page.fade(layer, Number(event.target.value) / 100),
    });
    const move = (words, step, says) =>
      button(
        words,
        () => {
          page.move(layer, step);
          this.render();
          this.list.querySelector(`[data-move="${layer.id} ${step}"]`)?.focus();
        },
        { "aria-label": `${says}: ${layer.name}`, title: says, "data-move": `${layer.id} ${step}` },
      );
    const zoom = button("Zoom to", () => {
      const box = layer.boxOf(Array(layer.n).keys());
      if (box) map.visit(box);
    });
    const found = [see, move("↑", 1, "nearer to the top"), move("↓", -1, "further down"), zoom];
    if (page.hasSides) found.unshift(this.sides(layer));
    return found;
  }

  sides(layer) {
    const options = ["before", "after", "both"].map((side) =>
      make("option", { value: side, selected: layer.side === side }, side),
    );
    return make(
      "select",
      {
        "aria-label": `On which side ${layer.name} is`,
        change: (event) => this.page.aside(layer, event.target.value),
      },
      ...options,
    );
  }

  classes({ family, look, classes }) {
    if (!classes) return "";
    const { names, counts, title, isListed, isApart } = classes;
    if (!isListed) {
      return make(
        "p",
        { class: "soft" },
        "by ",
        own(title),
        `: ${plain(names.length)} values, as labelled${isApart ? "; those that border differ in colour" : ""}`,
      );
    }
    const lines = names
      .slice(0, MOST_CLASSES)
      .map((name, k) =>
        make("li", {}, swatch(family, look, look.colours[k]), own(name), make("small", {}, plain(counts[k]))),
      );
    if (names.length > MOST_CLASSES) lines.push(make("li", {}, `${plain(names.length - MOST_CLASSES)} more`));
    return make(
      "div",
      { class: "classes" },
      make("p", { class: "soft" }, "by ", own(title)),
      make("ul", {}, ...lines),
    );
  }
}
