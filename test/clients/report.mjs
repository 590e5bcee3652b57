// Asks an endpoint some times, and reports what each answer has cost, as a program in another language would: with what
// the guide says and nothing of ours. It says how many values were taken.
const [server, gateway, token, times] = process.argv.slice(2)

const items = []
for (let x = 0; x < Number(times); x++) {
  const asked = await fetch(`${gateway}/v2/models/demand-hourly/infer`, {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ inputs: [{ name: 'x', datatype: 'FP64', shape: [1], data: [x] }] }),
  })
  if (!asked.ok) throw new Error(`${asked.status} ${await asked.text()}`)
  await asked.arrayBuffer()
  items.push({ request: asked.headers.get('Inner-Ladder-Request'), values: { dispatch_cost: 10 + (x % 4) } })
}
const reported = await fetch(`${server}/api/v1/endpoints/demand-hourly/reports`, {
  method: 'POST',
  headers: { 'Content-Type': 'application/json', Authorization: `Bearer ${token}` },
  body: JSON.stringify({ items: [...items, ...items.slice(0, 5)] }),
})
const said = await reported.text()
if (!reported.ok) throw new Error(`${reported.status} ${said}`)
const { values, fates } = JSON.parse(said)
console.log(`${values} taken, ${fates.again} again`)
