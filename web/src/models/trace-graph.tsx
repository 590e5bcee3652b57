import '@xyflow/react/dist/base.css'
import { Background, Controls, Handle, MiniMap, Position, ReactFlow, type NodeProps } from '@xyflow/react'
import { useMemo } from 'react'
import { useNavigate } from 'react-router'
import type { Trace } from '../api/client'
import { arrange, beginning } from './trace-layout'
import { type TraceNode, many, small, whole } from './trace-node'

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
