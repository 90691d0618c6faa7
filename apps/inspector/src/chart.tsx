/* eslint-disable max-lines-per-function -- the markup of one chart */
import { useEffect, useMemo, useRef, useState } from 'react';
import uPlot from 'uplot';
import 'uplot/dist/uPlot.min.css';
import type { Series } from './model';

const strokes = ['--lake', '--heather', '--moss', '--brick', '--ochre'];

interface ChartProps {
  readonly series: Series;
  readonly height?: number;
  readonly points?: boolean;
  /** The axis counts whole things from one on: no half ticks, and every one has its place. */
  readonly counts?: boolean;
}

const two = (value: number) => String(value).padStart(2, '0');
const dayOf = (at: Date) => `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())}`;
const timeOf = (at: Date, hasSeconds: boolean) =>
  `${two(at.getHours())}:${two(at.getMinutes())}${hasSeconds ? `:${two(at.getSeconds())}` : ''}`;

/** Times of an axis: as fine as their distance in seconds, and the day where it begins. */
export function timeLabels(splits: readonly number[], apartS: number): string[] {
  return splits.map((split, index) => {
    const at = new Date(split * 1000);
    if (apartS >= 86_400) return dayOf(at);
    const before = splits[index - 1];
    const isNewDay = before === undefined || dayOf(new Date(before * 1000)) !== dayOf(at);
    return `${timeOf(at, apartS < 60)}${isNewDay ? `\n${dayOf(at)}` : ''}`;
  });
}

/** A series drawn over its axis; the table beside it holds the same figures. */
export default function Chart({ series: given, height = 220, points = false, counts = false }: ChartProps) {
  const most = (line: Series['lines'][number]) => Math.max(...line.y.map((value) => Math.abs(value ?? 0)));
  // Over words, one figure at a time: figures of several kinds have no common scale there.
  const [name, setName] = useState(() => [...given.lines].sort((a, b) => most(b) - most(a))[0]!.name);
  const series = useMemo(
    () => (given.labels === undefined ? given : { ...given, lines: given.lines.filter((line) => line.name === name) }),
    [given, name],
  );
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const element = box.current!;
    let plot: uPlot | undefined;
    const draw = () => {
      plot?.destroy();
      const colour = (name: string) => getComputedStyle(element).getPropertyValue(name).trim();
      // A colour that depends on the theme is known only when it is painted.
      const probe = document.createElement('span');
      element.append(probe);
      const paint = (name: string) => {
        probe.style.color = `var(${name})`;
        return getComputedStyle(probe).color;
      };
      const axis: uPlot.Axis = {
        stroke: paint('--quiet'),
        grid: { stroke: paint('--line'), width: 1 },
        ticks: { stroke: paint('--line'), width: 1 },
        font: `12px ${colour('--mono') || 'monospace'}`,
      };
      const { labels, lines, x, isTime, axis: axisName } = series;
      plot = new uPlot(
        {
          width: element.clientWidth,
          height,
          legend: { show: labels === undefined && !points },
          cursor: { drag: { x: false, y: false } },
          scales: {
            x: {
              time: isTime,
              ...(counts && { range: () => [0.5, x.length + 0.5] as [number, number] }),
              ...(labels && { range: () => [-0.5, labels.length - 0.5] as [number, number] }),
            },
            ...(labels && {
              y: { range: (_plot: uPlot, low: number, high: number) => [Math.min(0, low), high * 1.05] as [number, number] },
            }),
          },
          axes: [
            {
              ...axis,
              ...(!isTime && { label: axisName }),
              ...(isTime && {
                values: (_plot: uPlot, splits: number[], _axis: number, _space: number, apart: number) => timeLabels(splits, apart),
              }),
              ...(counts && { incrs: [1, 2, 5, 10, 20, 50, 100, 200, 500] }),
              labelSize: 20,
              labelFont: '13px system-ui',
              ...(labels && {
                rotate: labels.length > 4 ? 35 : 0,
                size: labels.length > 4 ? 72 : 40,
                splits: () => labels.map((_, index) => index),
                values: (_plot: uPlot, splits: number[]) => splits.map((split) => labels[split]?.slice(0, 16) ?? ''),
              }),
            },
            { ...axis, size: 64, ...(lines.length === 1 && { label: lines[0]!.name }), labelSize: 20, labelFont: '13px system-ui' },
          ],
          series: [
            // Nothing is pointed at: nothing is said.
            {
              label: axisName,
              ...(isTime && {
                value: (_plot: uPlot, at: number | null) =>
                  at === null ? '' : `${dayOf(new Date(at * 1000))} ${timeOf(new Date(at * 1000), true)}`,
              }),
            },
            ...lines.map((line, index) => ({
              label: line.name,
              value: (_plot: uPlot, value: number | null) => (value === null ? '' : String(value)),
              stroke: paint(strokes[index % strokes.length]!),
              width: points ? 0 : 2,
              ...(series.labels && {
                paths: uPlot.paths.bars!({ size: [0.6, 64] }),
                fill: paint(strokes[index % strokes.length]!),
                points: { show: false },
              }),
              ...(!series.labels && {
                points: { show: points || line.y.length < 60, size: 6, fill: paint(strokes[index % strokes.length]!) },
              }),
            })),
          ],
        },
        [[...x], ...lines.map(({ y }) => [...y])],
        element,
      );
      probe.remove();
    };
    draw();
    const resized = new ResizeObserver(() => plot?.setSize({ width: element.clientWidth, height }));
    resized.observe(element);
    const themed = new MutationObserver(draw);
    themed.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] });
    const dark = matchMedia('(prefers-color-scheme: dark)');
    dark.addEventListener('change', draw);
    return () => {
      resized.disconnect();
      themed.disconnect();
      dark.removeEventListener('change', draw);
      plot?.destroy();
    };
  }, [series, height, points, counts]);
  const words = `${series.lines.map(({ name }) => name).join(', ')} by ${series.axis}, ${series.x.length} points`;
  return (
    <>
      {given.labels && given.lines.length > 1 && (
        <label className="quiet grouping">
          drawn:{' '}
          <select value={name} onChange={(event) => setName(event.target.value)}>
            {given.lines.map((line) => (
              <option key={line.name}>{line.name}</option>
            ))}
          </select>
        </label>
      )}
      <div className="chart" ref={box} role="img" aria-label={words} />
    </>
  );
}
