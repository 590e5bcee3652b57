import '@xyflow/react/dist/base.css'

import { Graph, layout } from '@dagrejs/dagre'
import { Background, Controls, Handle, MiniMap, Position, ReactFlow, type Edge, type Node, type NodeProps } from '@xyflow/react'
import { useMemo } from 'react'
import { useNavigate } from 'react-router'

import type { Trace } from '../api/client'

type Data = { node: Trace['nodes'][number]; root: boolean }
type TraceNode = Node<Data, 'thing'>

const width = 190
const height = 46

const looks: Record<Trace['nodes'][number]['kind'], string> = {
  version: 'rounded-lg border-main bg-panel',
  data: 'rounded-none border-trial-line bg-panel',
  run: 'rounded-full border-ink-3 bg-panel px-4',
  code: 'rounded-none border-dashed border-ink-3 bg-paper',
  artifact: 'rounded-sm border-line-strong bg-paper',
}

/** What a node is called: commits by their beginning. */
const title = (n: Trace['nodes'][number]) => (n.kind === 'code' ? n.id.slice(0, 10) : n.id)

function Thing({ data: { node, root } }: NodeProps<TraceNode>) {
  return (
    <div
      className={`grid content-center border-[1.5px] px-2.5 text-[12.5px] leading-tight ${looks[node.kind]} ${root ? 'bg-main-soft! ring-main ring-2' : ''}`}
      style={{ width, height }}
      title={[node.kind, node.detail, node.answering?.length ? `answers ${node.answering.join(', ')}` : ''].filter(Boolean).join(' · ')}
    >
      <Handle type="target" position={Position.Left} className="opacity-0" />
      <span className="truncate font-semibold">{title(node)}</span>
      <span className="text-ink-2 truncate">{node.answering?.length ? `answers ${node.answering.join(', ')}` : node.kind === 'version' ? node.detail : [node.kind, node.detail].filter(Boolean).join(', ')}</span>
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
  const { nodes, edges } = useMemo(() => arrange(trace), [trace])
  return (
    <div style={{ height: tall }} className="border-line bg-paper rounded-md border" role="img" aria-label={`Lineage of ${trace.roots.join(', ')}: ${trace.nodes.length} things, ${trace.links.length} links; the same as a list below`}>
      <ReactFlow
        key={trace.roots.join() + trace.nodes.length}
        nodes={nodes}
        edges={edges}
        nodeTypes={nodeTypes}
        fitView
        fitViewOptions={{ maxZoom: 1, padding: 0.08 }}
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
        {nodes.length > 30 && <MiniMap pannable zoomable className="bg-panel!" maskColor="color-mix(in srgb, var(--paper) 70%, transparent)" nodeColor="var(--ink-3)" />}
      </ReactFlow>
    </div>
  )
}

/** The links that are drawn: what a version took over from its run is drawn at the run. */
function drawn(links: Trace['links']): Trace['links'] {
  const runOf = new Map(links.filter((l) => l.relation === 'made-by').map((l) => [l.from, l.to]))
  return links.filter((l) => {
    const run = runOf.get(l.from)
    return run === undefined || run === l.to || !links.some((m) => m.from === run && m.to === l.to && m.relation === l.relation)
  })
}

function arrange(trace: Trace): { nodes: TraceNode[]; edges: Edge[] } {
  const graph = new Graph().setGraph({ rankdir: 'LR', nodesep: 14, ranksep: 70 }).setDefaultEdgeLabel(() => ({}))
  for (const n of trace.nodes) graph.setNode(n.id, { width, height })
  // A link says that `from` was made from `to`; the drawing goes with time, from what was there first.
  const links = drawn(trace.links)
  for (const l of links) graph.setEdge(l.to, l.from)
  layout(graph)
  const few = links.length <= 40
  return {
    nodes: trace.nodes.map((n) => {
      const at = graph.node(n.id)
      return { id: n.id, type: 'thing', position: { x: (at.x ?? 0) - width / 2, y: (at.y ?? 0) - height / 2 }, data: { node: n, root: trace.roots.includes(n.id) } }
    }),
    edges: links.map((l) => ({
      id: `${l.from} ${l.relation} ${l.to}`,
      source: l.to,
      target: l.from,
      label: few ? l.relation : undefined,
      style: { stroke: 'var(--ink-3)' },
      labelStyle: { fill: 'var(--ink-2)', fontSize: 11 },
      labelBgStyle: { fill: 'var(--paper)' },
    })),
  }
}
