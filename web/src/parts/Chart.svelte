<script lang="ts">
  import uPlot from "uplot";
  import "uplot/dist/uPlot.min.css";

  interface Props {
    title: string;
    /** What the axis across counts. */
    across: string;
    x: number[];
    series: { label: string; values: (number | null)[]; dash: number[] }[];
    /** A value of x to be marked, and its word. */
    mark?: { at: number; word: string };
  }
  const { title, across, x, series, mark }: Props = $props();

  let width = $state(0);
  let dark = $state(false);
  const height = 280;
  $effect(() => {
    const scheme = matchMedia("(prefers-color-scheme: dark)");
    const look = () => (dark = scheme.matches);
    look();
    scheme.addEventListener("change", look);
    return () => scheme.removeEventListener("change", look);
  });

  function plot(node: HTMLElement): () => void {
    const colour = (name: string) => getComputedStyle(node).getPropertyValue(`--${name}`).trim();
    void dark;
    const font = "12px 'Atkinson Hyperlegible Next'";
    const axis = {
      stroke: colour("soft"),
      font,
      grid: { stroke: colour("line"), width: 1 },
      ticks: { stroke: colour("rule") },
    };
    const chart = new uPlot(
      {
        width: Math.max(200, width),
        height,
        scales: { x: { time: false } },
        legend: { show: false },
        cursor: { show: false },
        padding: [12, 120, 0, 0],
        axes: [
          { ...axis, label: across, labelFont: font, labelSize: 18 },
          {
            ...axis,
            size: 74,
            values: (_: uPlot, list: number[]) => list.map((v) => v.toLocaleString("en")),
          },
        ],
        series: [
          {},
          ...series.map((s) => ({
            label: s.label,
            stroke: colour("ink"),
            width: 2,
            dash: s.dash,
            points: { show: false },
          })),
        ],
        hooks: { draw: [(u) => words(u, colour, font)] },
      },
      [x, ...series.map((s) => s.values)],
      node,
    );
    return () => chart.destroy();
  }

  /** Writes each line's name at its end, apart from each other, and the mark. */
  function words(u: uPlot, colour: (name: string) => string, font: string): void {
    const pen = u.ctx;
    const dense = devicePixelRatio;
    pen.save();
    pen.textAlign = "left";
    pen.textBaseline = "alphabetic";
    pen.font = font.replace("12", String(12 * dense));
    pen.fillStyle = colour("ink");
    const ends = series
      .flatMap((s) => {
        const last = s.values.findLastIndex((v) => v !== null);
        const at = x[last];
        const v = s.values[last];
        return at === undefined || v === undefined || v === null
          ? []
          : [{ label: s.label, x: u.valToPos(at, "x", true) + 6, y: u.valToPos(v, "y", true) }];
      })
      .sort((a, b) => a.y - b.y);
    for (let n = ends.length - 2; n >= 0; n--) {
      const [upper, lower] = [ends[n], ends[n + 1]];
      if (upper && lower && lower.y - upper.y < 15 * dense) upper.y = lower.y - 15 * dense;
    }
    for (const e of ends) pen.fillText(e.label, e.x, e.y + 4 * dense);
    if (mark) {
      const at = u.valToPos(mark.at, "x", true);
      pen.strokeStyle = colour("rule");
      pen.setLineDash([2, 4]);
      pen.beginPath();
      pen.moveTo(at, u.bbox.top);
      pen.lineTo(at, u.bbox.top + u.bbox.height);
      pen.stroke();
      pen.fillStyle = colour("soft");
      pen.fillText(mark.word, at + 4 * dense, u.bbox.top + 12 * dense);
    }
    pen.restore();
  }
</script>

<div class="max-w-3xl" role="img" aria-label={title} bind:clientWidth={width}>
  {#if width}<div {@attach plot}></div>{/if}
</div>
