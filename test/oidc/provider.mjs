// A provider of sign-ins for tests: the real oidc-provider, with accounts of whatever name
// is typed. Started with: node provider.mjs NODE_MODULES REDIRECT_URI
import { createServer } from 'node:http'
import { createInterface } from 'node:readline'
import { pathToFileURL } from 'node:url'

const [, , modules, redirect] = process.argv
const { Provider } = await import(pathToFileURL(`${modules}/oidc-provider/lib/index.js`))

// Groups come from standard input, as lines NAME GROUP…
const groups = {}
createInterface({ input: process.stdin }).on('line', (line) => {
  const [name, ...of] = line.split(' ')
  groups[name] = of
})

const server = createServer()
server.listen(0, '127.0.0.1', () => {
  const issuer = `http://127.0.0.1:${server.address().port}`
  const provider = new Provider(issuer, {
    clients: [{ client_id: 'inner-ladder', client_secret: 'a secret of sixteen bytes and more', redirect_uris: [redirect], grant_types: ['authorization_code'], response_types: ['code'] }],
    claims: { openid: ['sub', 'groups'], email: ['email', 'email_verified'], profile: [] },
    cookies: { keys: ['only for tests'] },
    findAccount: (_, id) => ({ accountId: id, claims: () => ({ sub: id, email: `${id.split('-')[0]}@tarnholm.example`, email_verified: !id.endsWith('-unverified'), groups: groups[id] ?? [] }) }),
    pkce: { required: () => true },
  })
  server.on('request', provider.callback())
  console.log(issuer)
})
