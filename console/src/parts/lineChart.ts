// Line charts over time in the colours of the page.
import {
  Chart,
  type ChartDataset,
  Legend,
  LinearScale,
  LineController,
  LineElement,
  PointElement,
  Tooltip,
} from 'chart.js'
import { onBeforeUnmount, onMounted, type Ref, watch } from 'vue'

Chart.register(LineController, LineElement, LinearScale, PointElement, Legend, Tooltip)

export interface LineChart {
  datasets: ChartDataset<'line'>[]
  unit: string // of the values
  axis: (at: number) => string // a moment below the chart
  title: (at: number) => string // a moment of a point
  mode: 'nearest' | 'index'
  most?: number // value
  step?: number // between two moments, in milliseconds
  whole?: boolean // values are whole numbers
}

/** Draws what `of` gives, now and whenever `changes`; nothing where it gives nothing. */
export function useLineChart(
  canvas: Ref<HTMLCanvasElement | undefined>,
  changes: () => unknown,
  of: () => LineChart | undefined,
) {
  let chart: Chart | undefined
  function draw() {
    chart?.destroy()
    const what = of()
    if (!canvas.value || !what) return
    const ink = getComputedStyle(canvas.value).color
    chart = new Chart(canvas.value, {
      type: 'line',
      data: { datasets: what.datasets },
      options: {
        animation: false,
        maintainAspectRatio: false,
        interaction: { mode: what.mode, intersect: false },
        plugins: {
          legend: { position: 'bottom', labels: { color: ink, boxWidth: 14 } },
          tooltip: { callbacks: { title: (items) => what.title(items[0]!.parsed.x!) } },
        },
        scales: {
          x: {
            type: 'linear',
            bounds: 'data',
            ticks: {
              color: ink,
              includeBounds: false,
              callback: (v) => what.axis(Number(v)),
              maxTicksLimit: 5,
              maxRotation: 0,
              stepSize: what.step,
            },
            grid: { display: false },
          },
          y: {
            beginAtZero: true,
            max: what.most,
            title: { display: true, text: what.unit, color: ink },
            ticks: { color: ink, precision: what.whole ? 0 : undefined },
            grid: { color: '#88888833' },
          },
        },
      },
    })
  }
  onMounted(draw)
  watch(changes, draw)
  onBeforeUnmount(() => chart?.destroy())
}
