<script lang="ts">
  import { onMount } from "svelte";
  import type { MatrixLine } from "../api/client";

  interface Props {
    lines: MatrixLine[];
    rows: string[];
    at: { row: number; column: number } | undefined;
    choose: (row: number, column: number) => void;
    /** Unfolds a line. */
    open: (line: number) => void;
    word: (code: string) => string;
  }
  const { lines, rows, at, choose, open, word }: Props = $props();

  const cell = 20;
  const head = 132; // for the words of lines, at the left and above
  let view = $state.raw<HTMLDivElement>();
  let canvas = $state.raw<HTMLCanvasElement>();
  let hover = $state.raw<{ row: number; column: number }>();
  /** What the pointer is on, as long as there is such a line; else the cell that is chosen. */
  const looked = $derived(hover && hover.row < lines.length && hover.column < lines.length ? hover : at);
  const said = $derived(
    looked
      ? `${lines[looked.row]?.title} to ${lines[looked.column]?.title}: ${word(rows[looked.row]?.[looked.column] ?? " ")}`
      : "",
  );

  let waiting = 0;
  function draw(): void {
    if (waiting) return;
    waiting = requestAnimationFrame(() => {
      waiting = 0;
      paint();
    });
  }
  $effect(() => {
    void [lines, rows, at, hover];
    draw();
  });
  onMount(() => {
    const seen = new ResizeObserver(draw);
    if (view) seen.observe(view);
    const dark = matchMedia("(prefers-color-scheme: dark)");
    dark.addEventListener("change", draw);
    void document.fonts.ready.then(draw);
    return () => {
      seen.disconnect();
      dark.removeEventListener("change", draw);
      cancelAnimationFrame(waiting);
    };
  });

  type Ink = Record<"ink" | "soft" | "line" | "sheet" | "sunk" | "clash" | "good" | "warn" | "mark", string>;
  function inks(of: Element): Ink {
    const style = getComputedStyle(of);
    const get = (name: string) => style.getPropertyValue(`--${name}`);
    return {
      ink: get("ink"),
      soft: get("soft"),
      line: get("line"),
      sheet: get("sheet"),
      sunk: get("sunk"),
      clash: get("clash"),
      good: get("good"),
      warn: get("warn"),
      mark: get("mark"),
    };
  }

  function paint(): void {
    if (!view || !canvas) return;
    const [width, height] = [view.clientWidth, view.clientHeight];
    const ratio = devicePixelRatio || 1;
    if (canvas.width !== width * ratio || canvas.height !== height * ratio) {
      canvas.width = width * ratio;
      canvas.height = height * ratio;
      canvas.style.width = `${width}px`;
      canvas.style.height = `${height}px`;
    }
    const c = canvas.getContext("2d");
    if (!c) return;
    const ink = inks(view);
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.clearRect(0, 0, width, height);
    const [left, top] = [view.scrollLeft, view.scrollTop];
    const first = { row: Math.floor(top / cell), column: Math.floor(left / cell) };
    const last = {
      row: Math.min(lines.length, Math.ceil((top + height - head) / cell)),
      column: Math.min(lines.length, Math.ceil((left + width - head) / cell)),
    };
    const x = (n: number) => head + n * cell - left;
    const y = (n: number) => head + n * cell - top;
    c.save();
    c.beginPath();
    c.rect(head, head, width - head, height - head);
    c.clip();
    for (let r = first.row; r < last.row; r++) {
      const row = rows[r] ?? "";
      for (let k = first.column; k < last.column; k++) {
        mark(c, ink, row[k] ?? " ", x(k), y(r), r === k);
      }
    }
    c.strokeStyle = ink.line;
    c.lineWidth = 1;
    c.beginPath();
    for (let k = first.column; k <= last.column; k++) c.rect(x(k) + 0.5, head, 0, y(lines.length) - head);
    for (let r = first.row; r <= last.row; r++) c.rect(head, y(r) + 0.5, x(lines.length) - head, 0);
    c.stroke();
    if (looked) {
      c.strokeStyle = ink.ink;
      c.lineWidth = 2;
      c.strokeRect(x(looked.column) + 1, y(looked.row) + 1, cell - 1, cell - 1);
    }
    c.restore();
    words(c, ink, first, last, x, y, width, height);
  }

  /** A cell has a shape for each state, and a colour beside it. */
  function mark(
    c: CanvasRenderingContext2D,
    ink: Ink,
    code: string,
    x: number,
    y: number,
    own: boolean,
  ): void {
    if (own) {
      c.fillStyle = ink.sunk;
      c.fillRect(x, y, cell, cell);
    }
    const [mx, my, r] = [x + cell / 2 + 0.5, y + cell / 2 + 0.5, 5];
    c.lineWidth = 2;
    switch (code) {
      case "+":
        c.fillStyle = ink.good;
        c.beginPath();
        c.arc(mx, my, r, 0, 7);
        c.fill();
        break;
      case "o":
      case "g":
        c.strokeStyle = ink.warn;
        c.beginPath();
        c.arc(mx, my, r - 1, 0, 7);
        c.stroke();
        break;
      case "x":
      case "l":
        c.strokeStyle = ink.clash;
        c.beginPath();
        c.moveTo(mx - r, my - r);
        c.lineTo(mx + r, my + r);
        c.moveTo(mx + r, my - r);
        c.lineTo(mx - r, my + r);
        c.stroke();
        break;
      case "!":
      case "b":
        c.fillStyle = ink.clash;
        c.fillRect(mx - 6, my - 6, 12, 12);
        break;
      case "-":
        c.strokeStyle = ink.soft;
        c.beginPath();
        c.moveTo(mx - r, my);
        c.lineTo(mx + r, my);
        c.stroke();
        break;
      case ".":
        c.fillStyle = ink.line;
        c.fillRect(mx - 1, my - 1, 2, 2);
    }
  }

  function words(
    c: CanvasRenderingContext2D,
    ink: Ink,
    first: { row: number; column: number },
    last: { row: number; column: number },
    x: (n: number) => number,
    y: (n: number) => number,
    width: number,
    height: number,
  ): void {
    c.font = '12px "Atkinson Hyperlegible Next", sans-serif';
    c.textBaseline = "middle";
    const each = (from: number, to: number, draw: (n: number) => void) => {
      for (let n = from; n < to; n++) draw(n);
    };
    c.save();
    c.beginPath();
    c.rect(0, head, head, height - head);
    c.clip();
    each(first.row, last.row, (n) => {
      if (looked?.row === n) {
        c.fillStyle = ink.mark;
        c.fillRect(0, y(n), head, cell);
      }
      c.fillStyle = ink.ink;
      c.fillText(short(c, lines[n]?.title ?? "", head - 10), 4, y(n) + cell / 2 + 1);
    });
    c.restore();
    c.save();
    c.beginPath();
    c.rect(head, 0, width - head, head);
    c.clip();
    each(first.column, last.column, (n) => {
      if (looked?.column === n) {
        c.fillStyle = ink.mark;
        c.fillRect(x(n), 0, cell, head);
      }
      c.save();
      c.translate(x(n) + cell / 2 + 1, head - 4);
      c.rotate(-Math.PI / 2);
      c.fillStyle = ink.ink;
      c.fillText(short(c, lines[n]?.title ?? "", head - 10), 0, 0);
      c.restore();
    });
    c.restore();
  }

  const shortened: Record<string, string> = {};
  function short(c: CanvasRenderingContext2D, text: string, room: number): string {
    const known = shortened[text];
    if (known !== undefined) return known;
    let out = text;
    if (c.measureText(text).width > room) {
      let n = text.length;
      while (n > 4 && c.measureText(`${text.slice(0, n)}…`).width > room) n--;
      out = `${text.slice(0, n).trimEnd()}…`;
    }
    shortened[text] = out;
    return out;
  }

  /** Which cell, or line, is at a place of the pointer. */
  function under(e: MouseEvent): { row: number; column: number } | undefined {
    if (!view) return undefined;
    const box = view.getBoundingClientRect();
    const [px, py] = [e.clientX - box.left, e.clientY - box.top];
    const row = py < head ? -1 : Math.floor((py - head + view.scrollTop) / cell);
    const column = px < head ? -1 : Math.floor((px - head + view.scrollLeft) / cell);
    return row < lines.length && column < lines.length ? { row, column } : undefined;
  }
  function onpointermove(e: PointerEvent): void {
    const u = under(e);
    hover = u && u.row >= 0 && u.column >= 0 ? u : undefined;
  }
  function onclick(e: MouseEvent): void {
    const u = under(e);
    if (!u) return;
    if (u.row >= 0 && u.column >= 0) choose(u.row, u.column);
    else if (u.row >= 0) open(u.row);
    else if (u.column >= 0) open(u.column);
  }
  function onkeydown(e: KeyboardEvent): void {
    const now = at ?? { row: 0, column: 0 };
    const by: Record<string, [number, number]> = {
      ArrowUp: [-1, 0],
      ArrowDown: [1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      PageUp: [-20, 0],
      PageDown: [20, 0],
      Home: [0, -lines.length],
      End: [0, lines.length],
    };
    const step = by[e.key];
    if (e.key === "Enter" && at) open(at.row);
    if (!step) return;
    e.preventDefault();
    hover = undefined;
    const within = (n: number) => Math.max(0, Math.min(lines.length - 1, n));
    const next = at ? { row: within(now.row + step[0]), column: within(now.column + step[1]) } : now;
    choose(next.row, next.column);
    follow(next);
  }
  function follow(c: { row: number; column: number }): void {
    if (!view) return;
    const [w, h] = [view.clientWidth - head, view.clientHeight - head];
    const [x, y] = [c.column * cell, c.row * cell];
    if (x < view.scrollLeft) view.scrollLeft = x;
    if (x + cell > view.scrollLeft + w) view.scrollLeft = x + cell - w;
    if (y < view.scrollTop) view.scrollTop = y;
    if (y + cell > view.scrollTop + h) view.scrollTop = y + cell - h;
  }
</script>

<div class="relative min-h-0 flex-1">
  <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
  <div
    bind:this={view}
    class="absolute inset-0 overflow-auto focus-visible:-outline-offset-2"
    role="application"
    aria-label="Matrix: arrow keys move, Enter unfolds a line"
    aria-describedby="matrix-said"
    tabindex="0"
    onscroll={draw}
    {onpointermove}
    onpointerleave={() => (hover = undefined)}
    {onclick}
    {onkeydown}
  >
    <canvas bind:this={canvas} class="sticky top-0 left-0 block"></canvas>
    <div
      style:width={`${head + lines.length * cell + 8}px`}
      style:height="1px"
      style:margin-top={`${head + lines.length * cell + 8 - (view?.clientHeight ?? 0)}px`}
    ></div>
  </div>
</div>
<p id="matrix-said" class="border-line text-sm border-t px-3 py-1" aria-live="polite">
  {said || "Rows start, columns answer. Point at a cell, or move with the arrow keys."}
</p>
