/** Mouse, touch and keys on the map. */

const STILL = 4; // pixels that a click may move
const STEP = 80; // pixels that an arrow key moves

/** @param {object} map */
export function listen(map) {
  const { canvas } = map;
  /** @type {Map<number, [number, number]>} */
  const down = new Map();
  let start = null;
  const at = (event) => [event.offsetX, event.offsetY];

  canvas.addEventListener("pointerdown", (event) => {
    if (event.button > 0) return;
    canvas.setPointerCapture(event.pointerId);
    down.set(event.pointerId, at(event));
    start = { at: at(event), moved: down.size > 1, does: doing(map.mode, event) };
    canvas.focus({ preventScroll: true, focusVisible: false });
  });

  canvas.addEventListener("pointermove", (event) => {
    const now = at(event);
    const was = down.get(event.pointerId);
    if (!was) {
      map.point(...now);
      return;
    }
    if (down.size === 2) pinch(map, down, event.pointerId, now);
    else if (start && (start.moved || apart(start.at, now) > STILL)) {
      start.moved = true;
      if (start.does === "move" || start.does === "measure") map.pan(now[0] - was[0], now[1] - was[1]);
      else {
        map.box = [...start.at, ...now];
        map.draw();
      }
    }
    if (start?.moved || down.size === 2) down.set(event.pointerId, now);
  });

  const end = (event) => {
    if (!down.delete(event.pointerId) || !start || down.size > 0) return;
    const now = at(event);
    if (event.type === "pointerup" && !start.moved) {
      map.point(...now);
      map.click(...now, event.shiftKey || event.ctrlKey || event.metaKey);
    } else if (event.type === "pointerup" && map.box) boxed(map, start, now, event);
    map.box = null;
    start = null;
    map.draw();
  };
  canvas.addEventListener("pointerup", end);
  canvas.addEventListener("pointercancel", end);
  canvas.addEventListener("pointerleave", () => map.leave());

  canvas.addEventListener(
    "wheel",
    (event) => {
      // In a page that is longer than the window the wheel goes on with it, until the map is clicked.
      const isLong = document.documentElement.scrollHeight > window.innerHeight + 4;
      if (isLong && document.activeElement !== canvas && !event.ctrlKey) return;
      event.preventDefault();
      const lines = event.deltaMode === 1 ? 20 : 1;
      const turned = Math.max(-300, Math.min(300, event.deltaY * lines));
      map.zoom(2 ** (-turned / 240), ...at(event));
    },
    { passive: false },
  );

  canvas.addEventListener("dblclick", (event) => {
    if (map.mode === "move") map.zoom(2, ...at(event));
  });
  canvas.addEventListener("keydown", (event) => keyed(map, event));
  slide(map);
}

/** What dragging does: the mode says it, and keys that are held. */
function doing(mode, event) {
  if (mode === "move" && event.shiftKey) return "zoom";
  if (mode === "move" && (event.ctrlKey || event.metaKey)) return "choose";
  return mode;
}

function boxed(map, start, now, event) {
  const [x0, x1] = [start.at[0], now[0]].sort((a, b) => a - b);
  const [y0, y1] = [start.at[1], now[1]].sort((a, b) => a - b);
  if (start.does === "choose") return map.chooseIn(x0, y0, x1, y1, map.mode === "choose" && event.shiftKey);
  const [left, top] = map.placeOf(x0, y0);
  const [right, bottom] = map.placeOf(x1, y1);
  map.showBox([left, bottom, right, top], 0);
}

/** Two fingers: what is between them stays between them. */
function pinch(map, down, moved, now) {
  const [a, b] = [...down.keys()];
  const fixed = down.get(moved === a ? b : a);
  const was = down.get(moved);
  map.zoom(apart(fixed, now) / (apart(fixed, was) || 1), ...fixed);
}

function apart([ax, ay], [bx, by]) {
  return Math.hypot(bx - ax, by - ay);
}

function keyed(map, event) {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  const does = {
    ArrowLeft: () => map.pan(STEP, 0),
    ArrowRight: () => map.pan(-STEP, 0),
    ArrowUp: () => map.pan(0, STEP),
    ArrowDown: () => map.pan(0, -STEP),
    "+": () => map.zoom(2),
    "=": () => map.zoom(2),
    "-": () => map.zoom(0.5),
    0: () => map.showAll(),
    Enter: () => map.click(map.view.wide / 2, map.view.tall / 2, false),
    Escape: () => (map.mode === "move" ? map.page.chooseNone() : map.setMode("move")),
  }[event.key];
  if (!does) return;
  event.preventDefault();
  does();
}

/** The divider between before and after, by pointer and by keys. */
function slide(map) {
  const { divider, frame } = map;
  divider.addEventListener("pointerdown", (event) => divider.setPointerCapture(event.pointerId));
  divider.addEventListener("pointermove", (event) => {
    if (!divider.hasPointerCapture(event.pointerId)) return;
    const { left, width } = frame.getBoundingClientRect();
    map.slideTo((event.clientX - left) / width);
  });
  divider.addEventListener("keydown", (event) => {
    const step = { ArrowLeft: -0.02, ArrowRight: 0.02, Home: -1, End: 1 }[event.key];
    if (step === undefined) return;
    event.preventDefault();
    map.slideTo(map.split + step);
  });
}
