import '@xyflow/react/dist/base.css'

import { Graph, layout } from '@dagrejs/dagre'
import {
  Background,
  Controls,
  Handle,
  MiniMap,
  Position,
  ReactFlow,
  type Edge,
  type Node,
  type NodeProps,
} from '@xyflow/react'
import { useMemo } from 'react'
import { useNavigate } from 'react-router'

import type { Trace } from '../api/client'

type Data = { node: Trace['nodes'][number]; root: boolean; compact: boolean }
type TraceNode = Node<Data, 'thing'>

/** From so many things on each is drawn in one line, and the view begins at the root instead of showing all at once. */
const many = 60
const whole = { width: 190, height: 46 }
const small = { width: 168, height: 26 }
const gap = { between: 14, columns: 26, ranks: 80 }

const looks: Record<Trace['nodes'][number]['kind'], string> = {
  version: 'rounded-lg border-main bg-panel',
  data: 'rounded-none border-trial-line bg-panel',
  run: 'rounded-full border-ink-3 bg-panel px-4',
  code: 'rounded-none border-dashed border-ink-3 bg-paper',
  artifact: 'rounded-sm border-line-strong bg-paper',
}

/** What a node is called: commits by their beginning. */
const title = (n: Trace['nodes'][number]) => (n.kind === 'code' ? n.id.slice(0, 10) : n.id)

function Thing({ data: { node, root, compact } }: NodeProps<TraceNode>) {
  return (
    <div
      className={`grid content-center border-[1.5px] px-2.5 text-[12.5px] leading-tight ${looks[node.kind]} ${root ? 'bg-main-soft! ring-main ring-2' : ''}`}
      style={compact ? small : whole}
      title={[node.kind, node.detail, node.answering?.length ? `answers ${node.answering.join(', ')}` : '']
        .filter(Boolean)
        .join(' · ')}
    >
      <Handle type="target" position={Position.Left} className="opacity-0" />
      <span className="flex min-w-0 font-semibold">
        <span className="truncate">{title(node).split('@')[0]}</span>
        {node.kind === 'version' && <span>@{node.id.split('@')[1]}</span>}
      </span>
      {!compact && (
        <span className="text-ink-2 truncate">
          {node.answering?.length
            ? `answers ${node.answering.join(', ')}`
            : node.kind === 'version'
              ? node.detail
              : [node.kind, node.detail].filter(Boolean).join(', ')}
        </span>
      )}
      <Handle type="source" position={Position.Right} className="opacity-0" />
    </div>
  )
}

const nodeTypes = { thing: Thing }

/** Where a node leads when it is clicked. */
function page(n: Trace['nodes'][number]): string | undefined {
  switch (n.kind) {
    case 'version':
      return `/models/${n.id.replace('@', '/versions/')}`
    case 'run':
      return `/models/runs/${n.id}`
    case 'data':
      return `/models/trace?from=${encodeURIComponent(n.id)}`
    case 'code':
      return `/models/trace?from=${n.id}`
    default:
      return undefined
  }
}

/** The lineage from left to right: what things were made from to the left, what was made from them to the right. */
export function TraceGraph({ trace, tall = 520 }: { trace: Trace; tall?: number }) {
  const navigate = useNavigate()
  const crowded = trace.nodes.length > many
  const height = crowded ? Math.max(tall, 720) : tall
  const { nodes, edges } = useMemo(() => arrange(trace), [trace])
  return (
    <div
      style={{ height }}
      className="border-line bg-paper rounded-md border"
      role="img"
      aria-label={`Lineage of ${trace.roots.join(', ')}: ${trace.nodes.length} things, ${trace.links.length} links; the same as a list below`}
    >
      <ReactFlow
        key={trace.roots.join() + trace.nodes.length}
        nodes={nodes}
        edges={edges}
        nodeTypes={nodeTypes}
        fitView={!crowded}
        fitViewOptions={{ maxZoom: 1, padding: 0.08 }}
        defaultViewport={crowded ? beginning(nodes, height) : undefined}
        minZoom={0.05}
        nodesDraggable={false}
        nodesConnectable={false}
        onlyRenderVisibleElements
        onNodeClick={(_, n) => {
          const to = page(n.data.node)
          if (to) void navigate(to)
        }}
        proOptions={{ hideAttribution: true }}
      >
        <Background color="var(--line-strong)" gap={20} size={1} />
        <Controls showInteractive={false} className="[&_button]:border-line! [&_button]:bg-panel! [&_svg]:fill-ink!" />
        {nodes.length > 30 && (
          <MiniMap
            pannable
            zoomable
            className="bg-panel!"
            maskColor="color-mix(in srgb, var(--paper) 70%, transparent)"
            nodeColor="#8b929a"
          />
        )}
      </ReactFlow>
    </div>
  )
}

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

/** The view of a crowded graph: large enough to be read, with the root at the left, or further in when there is something before it. */
function beginning(nodes: TraceNode[], tall: number) {
  const zoom = 0.85
  const root = nodes.find((n) => n.data.root)?.position ?? { x: 0, y: 0 }
  const before = nodes.some((n) => n.position.x < root.x)
  return { x: (before ? 380 : 20) - root.x * zoom, y: tall / 2 - root.y * zoom, zoom }
}

/**
 * Ranks and their order come from the layout library. A rank of many things is then folded into several columns: in
 * one it would be taller than anyone can read.
 */
function arrange(trace: Trace): { nodes: TraceNode[]; edges: Edge[] } {
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
