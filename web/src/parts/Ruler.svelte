<script lang="ts">
  import type { Claim, Group } from "../api/client";
  import { around, beside, formatAddress, sizeWords, type Range } from "../lib/range";
  import { clashColumns, clashOf, extent, rowsIn, toBars, type Bar } from "../lib/ruler";

  interface Props {
    claims: Claim[];
    pools: Claim[];
    groups: Group[];
    /** The names of the parties, by ID. */
    parties: Map<string, string>;
    /** The group to draw attention to. */
    group?: Group;
    view: Range;
    show: (view: Range) => void;
  }
  const { claims, pools, groups, parties, group, view, show }: Props = $props();

  const labelWidth = 200;
  const rowHeight = 26;
  const top = 30;

  let width = $state(600);
  let height = $state(400);
  let scrolled = $state(0);
  let canvas = $state<HTMLCanvasElement>();
  let pointed = $state<{ row: number; bar?: Bar }>();

  const scale = $derived(Math.max(100, width - labelWidth - 14));
  const bars = $derived([...toBars(claims, false), ...toBars(pools, true)]);
  const clashes = $derived(groups.map(clashOf).filter((c) => c !== undefined));
  const rows = $derived(rowsIn(view, bars, parties));
  const inView = $derived(rows.reduce((n, r) => n + r.bars.length, 0));
  const chosen = $derived(new Set(group?.claims.map((c) => c.owner)));

  const status = $derived.by(() => {
    const row = pointed && rows[pointed.row];
    if (pointed?.bar) {
      const b = pointed.bar;
      return `${b.claim.title}: ${b.claim.prefix}, ${sizeWords(b.range)}${b.claim.fixed ? ", can not be renumbered" : ""}${b.pool ? ", reserved for mapping" : ""}`;
    }
    if (row)
      return `${row.title}: ${row.bars
        .map((b) => b.claim.prefix)
        .slice(0, 6)
        .join(", ")}${row.bars.length > 6 ? ` and ${row.bars.length - 6} more` : ""}`;
    if (rows.length === 0) return `Nobody holds anything here: all of ${view.text} is free.`;
    const outside = bars.length - inView;
    return `${inView} ${inView === 1 ? "range" : "ranges"} in view, ${outside} outside ${view.text}`;
  });

  /** Hatches the columns where parties collide. Set pixel by pixel: that costs the same however many there are. */
  let pixels: ImageData | undefined;
  function hatch(pen: CanvasRenderingContext2D, columns: Uint8Array, colour: string, dense: number): void {
    const wide = Math.ceil(columns.length * dense);
    const high = Math.floor((height - top + 4) * dense);
    if (wide < 1 || high < 1) return;
    if (pixels?.width !== wide || pixels.height !== high) pixels = pen.createImageData(wide, high);
    const ink = new Uint32Array(pixels.data.buffer);
    ink.fill(0);
    const [r, g, b] = [1, 3, 5].map((n) => parseInt(colour.slice(n, n + 2), 16));
    const shades = [0, 0x60, 0xff].map(
      (alpha) => ((alpha << 24) | ((b ?? 0) << 16) | ((g ?? 0) << 8) | (r ?? 0)) >>> 0,
    );
    const period = Math.round(8 * dense);
    const thick = Math.max(1, Math.round(1.6 * dense));
    for (let x = 0; x < wide; x++) {
      const mark = columns[Math.floor(x / dense)];
      if (!mark) continue;
      const shade = shades[mark] ?? 0;
      for (let y = period - (x % period); y < high; y += period) {
        for (let n = 0; n < thick && y + n < high; n++) ink[(y + n) * wide + x] = shade;
      }
    }
    pen.putImageData(pixels, Math.round(labelWidth * dense), Math.round((top - 4) * dense));
  }

  function draw(): void {
    // Drawn by the processor: many small strokes are slower through a graphics card, most of all a simulated one.
    const pen = canvas?.getContext("2d", { willReadFrequently: true });
    if (!canvas || !pen) return;
    const style = getComputedStyle(canvas);
    const colours: Record<string, string> = {};
    const colour = (name: string) => (colours[name] ??= style.getPropertyValue(`--${name}`));
    const mono = "12px 'Atkinson Hyperlegible Mono'";
    const text = "13px 'Atkinson Hyperlegible Next'";
    const dense = devicePixelRatio;
    if (canvas.width !== Math.round(width * dense) || canvas.height !== Math.round(height * dense)) {
      canvas.width = Math.round(width * dense);
      canvas.height = Math.round(height * dense);
    }
    pen.setTransform(dense, 0, 0, dense, 0, 0);
    pen.clearRect(0, 0, width, height);

    const clash = clashColumns(view, clashes, group?.key, Math.floor(scale));
    hatch(pen, clash, colour("clash").trim(), dense);

    const first = Math.max(0, Math.floor(scrolled / rowHeight));
    const last = Math.min(rows.length, Math.ceil((scrolled + height) / rowHeight));
    for (let n = first; n < last; n++) {
      const row = rows[n];
      if (!row) continue;
      const y = top + n * rowHeight - scrolled;
      const marked = row.bars.some((b) => chosen.has(b.owner));
      if (pointed?.row === n) {
        pen.fillStyle = colour("mark");
        pen.fillRect(0, y, labelWidth - 4, rowHeight);
      }
      pen.font = marked ? `600 ${text}` : text;
      pen.fillStyle = colour(marked ? "ink" : "soft");
      pen.fillText(fit(pen, row.title, labelWidth - 16), 8, y + 17);
      let drawn = -1; // the last pixel column with a bar too narrow to tell from the next
      pen.font = mono;
      for (const b of row.bars) {
        const [x, w] = place(b);
        if (w <= 2 && Math.floor(x) === drawn && pointed?.bar !== b) continue;
        drawn = Math.floor(x);
        drawBar(pen, b, x, w, y, colour, chosen.has(b.owner), row.bars.length);
      }
    }

    pen.fillStyle = colour("paper");
    pen.fillRect(0, 0, width, top - 4);
    pen.strokeStyle = colour("ink");
    pen.lineWidth = 1.5;
    pen.beginPath();
    pen.moveTo(labelWidth, top - 4);
    pen.lineTo(labelWidth + scale, top - 4);
    pen.stroke();
    pen.font = mono;
    pen.fillStyle = colour("soft");
    pen.strokeStyle = colour("line");
    pen.lineWidth = 1;
    for (let n = 0; n <= 4; n++) {
      const x = labelWidth + (n / 4) * scale;
      const at = view.start + (view.size * BigInt(n)) / 4n - (n === 4 ? 1n : 0n);
      pen.textAlign = n === 0 ? "left" : n === 4 ? "right" : "center";
      pen.fillText(formatAddress(at, view.width), x, 16);
      pen.beginPath();
      pen.moveTo(x, top - 9);
      pen.lineTo(x, height);
      pen.stroke();
    }
    pen.textAlign = "left";
  }

  function fit(pen: CanvasRenderingContext2D, title: string, most: number): string {
    if (pen.measureText(title).width <= most) return title;
    let n = title.length;
    while (n > 1 && pen.measureText(`${title.slice(0, n)}…`).width > most) n--;
    return `${title.slice(0, n)}…`;
  }

  const place = (b: Bar): [number, number] => {
    const [from, to] = extent(view, b);
    return [labelWidth + from * scale, Math.max(2, (to - from) * scale)];
  };

  function drawBar(
    pen: CanvasRenderingContext2D,
    b: Bar,
    x: number,
    w: number,
    y: number,
    colour: (name: string) => string,
    marked: boolean,
    beside: number,
  ): void {
    // Two filled rectangles on whole pixels are cheaper than a fill and a stroke.
    const edge = marked || pointed?.bar === b ? 2 : 1;
    const [left, wide] = [Math.round(x), Math.max(2, Math.round(w))];
    pen.fillStyle = colour(pointed?.bar === b ? "link" : b.pool ? "rule" : "ink");
    pen.fillRect(left, y + 3, wide, rowHeight - 7);
    if (wide > 2 * edge) {
      pen.fillStyle = colour(b.pool ? "sunk" : "sheet");
      pen.fillRect(left + edge, y + 3 + edge, wide - 2 * edge, rowHeight - 7 - 2 * edge);
    }
    const needs = b.text.length * 7.3;
    pen.fillStyle = colour("ink");
    if (w > needs + 6) {
      pen.textAlign = "center";
      pen.fillText(b.text, x + w / 2, y + 17);
    } else if (beside === 1) {
      const right = x + w + 5 + needs < labelWidth + scale;
      pen.textAlign = right ? "left" : "right";
      pen.lineWidth = 4;
      pen.strokeStyle = colour("paper");
      pen.strokeText(b.text, right ? x + w + 5 : x - 5, y + 17);
      pen.fillText(b.text, right ? x + w + 5 : x - 5, y + 17);
    }
    pen.textAlign = "left";
  }

  let dark = $state(0); // counts changes of the colour scheme, to draw again
  $effect(() => {
    const scheme = matchMedia("(prefers-color-scheme: dark)");
    const again = () => dark++;
    scheme.addEventListener("change", again);
    void document.fonts.ready.then(again);
    return () => scheme.removeEventListener("change", again);
  });
  $effect(() => {
    void dark;
    const frame = requestAnimationFrame(draw);
    // What is drawn is read here, so that the effect runs when it changes.
    void [rows, clashes, group, view, width, height, scrolled, pointed];
    return () => cancelAnimationFrame(frame);
  });

  /** Zooms by whole bits and keeps what is at that place (0 to 1) in view. */
  function zoom(bits: number, at = 0.5): void {
    const point = view.start + (view.size * BigInt(Math.round(at * 1000))) / 1000n;
    const clamped = point >= view.start + view.size ? view.start + view.size - 1n : point;
    const to = Math.max(view.width === 32 ? 4 : 8, Math.min(view.width - 4, view.bits + bits));
    if (to !== view.bits) show(around({ ...view, start: clamped, size: 1n }, to));
  }
  function onwheel(e: WheelEvent): void {
    if (e.shiftKey) return; // scrolls the rows
    e.preventDefault();
    zoom(e.deltaY < 0 ? 1 : -1, Math.min(1, Math.max(0, (e.offsetX - labelWidth) / scale)));
  }
  function point(row: number): void {
    if (rows.length === 0) return;
    pointed = { row: Math.max(0, Math.min(rows.length - 1, row)) };
  }
  function onkeydown(e: KeyboardEvent): void {
    const act: Record<string, () => void> = {
      "+": () => zoom(1),
      "=": () => zoom(1),
      "-": () => zoom(-1),
      ArrowRight: () => show(beside(view, 1n)),
      ArrowLeft: () => show(beside(view, -1n)),
      ArrowDown: () => point((pointed?.row ?? -1) + 1),
      ArrowUp: () => point((pointed?.row ?? 1) - 1),
    };
    const does = act[e.key];
    if (!does || e.ctrlKey || e.metaKey) return;
    e.preventDefault();
    does();
  }
  function onpointermove(e: PointerEvent): void {
    const row = Math.floor((e.offsetY - top + scrolled) / rowHeight);
    const at = e.offsetY < top ? undefined : rows[row];
    const bar = at?.bars.findLast((b) => {
      const [x, w] = place(b);
      return e.offsetX >= x - 2 && e.offsetX <= x + w + 2;
    });
    if (pointed?.row !== row || pointed.bar !== bar) pointed = at ? { row, bar } : undefined;
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
<div
  class="min-h-0 flex-1 overflow-y-auto"
  bind:clientWidth={width}
  bind:clientHeight={height}
  role="application"
  tabindex="0"
  aria-label="Address ruler: + and - zoom, left and right move, up and down choose a row"
  aria-describedby="ruler-status"
  {onkeydown}
  onscroll={(e) => (scrolled = e.currentTarget.scrollTop)}
>
  <div style:height="{Math.max(top + rows.length * rowHeight, height) - 1}px">
    <canvas
      bind:this={canvas}
      class="sticky top-0 block"
      style:width="{width}px"
      style:height="{height}px"
      {onwheel}
      {onpointermove}
      onpointerleave={() => (pointed = undefined)}
    ></canvas>
  </div>
</div>
<p id="ruler-status" class="border-line text-soft truncate border-t px-3 py-1.5 text-sm" aria-live="polite">
  {status}
</p>
