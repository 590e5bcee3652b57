// Answers of another ONNX runtime, which the tests of internal/core/onnx are held against. To make them anew:
//
//   npm install --ignore-scripts --no-save --prefix /tmp/ort onnxruntime-node
//   mkdir -p /tmp/gold && GOLDEN=/tmp/gold go test -run LearnedAgrees ./internal/core/onnx
//   NODE_PATH=/tmp/ort/node_modules node bench/golden/onnx.mjs /tmp/gold > internal/core/onnx/testdata/learned.json
import { createRequire } from 'node:module'
import { readFileSync, readdirSync } from 'node:fs'

const ort = createRequire(process.env.NODE_PATH + '/')('onnxruntime-node')
const dir = process.argv[2]
const rows = new Float32Array(JSON.parse(readFileSync(dir + '/rows.json', 'utf8')))
const answers = {}
for (const file of readdirSync(dir).filter(f => f.endsWith('.onnx')).sort()) {
  const session = await ort.InferenceSession.create(dir + '/' + file)
  const out = await session.run({ x: new ort.Tensor('float32', rows, [rows.length / 4, 4]) })
  answers[file.replace('.onnx', '')] = Object.fromEntries(
    Object.entries(out).map(([name, t]) => [name, Array.from(t.data, String)]))
}
console.log(JSON.stringify(answers))
