import '@xyflow/react/dist/base.css'
import { Graph, layout } from '@dagrejs/dagre'
import { type Edge } from '@xyflow/react'
import type { Trace } from '../api/client'
import { type TraceNode, gap, many, small, whole } from './trace-node'

/** The links that are drawn: what a version took over from its run is drawn at the run. */
function drawn(links: Trace['links']): Trace['links'] {
  const runOf = new Map(links.filter((l) => l.relation === 'made-by').map((l) => [l.from, l.to]))
  return links.filter((l) => {
    const run = runOf.get(l.from)
    return (
      run === undefined ||
      run === l.to ||
      !links.some((m) => m.from === run && m.to === l.to && m.relation === l.relation)
    )
  })
}

/** The view of a crowded graph: readable, its root at the left, or further in if something is before it. */
export function beginning(nodes: TraceNode[], tall: number) {
  const zoom = 0.85
  const root = nodes.find((n) => n.data.root)?.position ?? { x: 0, y: 0 }
  const before = nodes.some((n) => n.position.x < root.x)
  return { x: (before ? 380 : 20) - root.x * zoom, y: tall / 2 - root.y * zoom, zoom }
}

/**
 * Ranks and their order come from the layout library. A rank of many things is then folded into several columns: in
 * one it would be taller than anyone can read.
 */
export function arrange(trace: Trace): { nodes: TraceNode[]; edges: Edge[] } {
  const compact = trace.nodes.length > many
  const { width, height } = compact ? small : whole
  const graph = new Graph()
    .setGraph({ rankdir: 'LR', nodesep: gap.between, ranksep: gap.ranks })
    .setDefaultEdgeLabel(() => ({}))
  for (const n of trace.nodes) graph.setNode(n.id, { width, height })
  // A link says that `from` was made from `to`; the drawing goes with time, from what was there first.
  const links = drawn(trace.links)
  for (const l of links) graph.setEdge(l.to, l.from)
  layout(graph)
  const ranks = new Map<number, string[]>()
  for (const n of trace.nodes) {
    const x = Math.round(graph.node(n.id).x ?? 0)
    ranks.set(x, [...(ranks.get(x) ?? []), n.id])
  }
  const tallest = Math.max(12, Math.ceil(Math.sqrt(trace.nodes.length) * 1.35))
  const at = new Map<string, { x: number; y: number }>()
  let left = 0
  for (const [, ids] of [...ranks].sort(([a], [b]) => a - b)) {
    ids.sort((a, b) => (graph.node(a).y ?? 0) - (graph.node(b).y ?? 0))
    const folded = ids.length > tallest
    const rows = folded ? Math.ceil(ids.length / Math.ceil(ids.length / tallest)) : ids.length
    ids.forEach((id, i) => {
      const column = Math.floor(i / rows)
      const y = folded ? ((i % rows) - (rows - 1) / 2) * (height + gap.between) : (graph.node(id).y ?? 0) - height / 2
      at.set(id, { x: left + column * (width + gap.columns), y })
    })
    left += Math.ceil(ids.length / rows) * (width + gap.columns) + gap.ranks
  }
  if ([...ranks.values()].some((ids) => ids.length > tallest)) middle(ranks, at, height)
  const few = links.length <= 40
  return {
    nodes: trace.nodes.map((n) => ({
      id: n.id,
      type: 'thing',
      width,
      height,
      position: at.get(n.id) ?? { x: 0, y: 0 },
      data: { node: n, root: trace.roots.includes(n.id), compact },
    })),
    edges: links.map((l) => ({
      id: `${l.from} ${l.relation} ${l.to}`,
      source: l.to,
      target: l.from,
      label: few ? l.relation : undefined,
      style: { stroke: 'var(--ink-3)', opacity: compact ? 0.3 : 1 },
      labelStyle: { fill: 'var(--ink-2)', fontSize: 11 },
      labelBgStyle: { fill: 'var(--paper)' },
    })),
  }
}

/** Puts the ranks that were not folded around the middle, evenly, where the folded ones are. */
function middle(ranks: Map<number, string[]>, at: Map<string, { x: number; y: number }>, height: number) {
  for (const ids of ranks.values()) {
    const places = ids.map((id) => at.get(id) ?? { x: 0, y: 0 })
    if (new Set(places.map((p) => p.x)).size > 1) continue
    places.forEach((p, i) => {
      p.y = (i - (ids.length - 1) / 2) * (height + gap.between)
    })
  }
}
