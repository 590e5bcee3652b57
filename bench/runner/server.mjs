// The yardstick: one Node process that answers the same requests with the npm package onnxruntime-node.
// NODE_PATH names the folder that it was installed to, with --ignore-scripts.
import { createRequire } from 'node:module'
import http from 'node:http'

const ort = createRequire(process.env.NODE_PATH + '/')('onnxruntime-node')
const session = await ort.InferenceSession.create(process.argv[2], { intraOpNumThreads: 1, interOpNumThreads: 1 })

const server = http.createServer((req, res) => {
  const parts = []
  req.on('data', p => parts.push(p))
  req.on('end', async () => {
    const { inputs: [x] } = JSON.parse(Buffer.concat(parts).toString())
    const out = await session.run({ x: new ort.Tensor('float32', Float32Array.from(x.data), x.shape) })
    const outputs = Object.entries(out).map(([name, t]) =>
      ({ name, datatype: 'FP32', shape: t.dims, data: Array.from(t.data) }))
    const body = JSON.stringify({ model_name: 'm', outputs })
    res.writeHead(200, { 'content-type': 'application/json', 'content-length': Buffer.byteLength(body) })
    res.end(body)
  })
})
server.listen(0, '127.0.0.1', () => console.log(`http://127.0.0.1:${server.address().port} serves m`))
