// Says who is signed in and which models there are: node dist/example.js SERVER TOKEN
import { each, innerLadder, Problem } from './index.js'

const [server = '', token = ''] = process.argv.slice(2)
const api = innerLadder(server, token)
const { data: me } = await api.GET('/api/v1/session')
console.log('signed in as', me?.name)
for await (const model of each((cursor) => api.GET('/api/v1/models', { params: { query: { cursor, limit: 1 } } })))
  console.log(model.name, model.task)
try {
  await api.GET('/api/v1/models/{model}', { params: { path: { model: 'no-such-model' } } })
} catch (e) {
  if (e instanceof Problem) console.log('refused:', e.said.code, '|', e.said.remedy)
}
