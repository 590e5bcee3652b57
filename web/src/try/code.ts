/** Requests as callers write them, ready to be copied. Each is run by a test as it stands here. */
export const languages = ['curl', 'Go', 'Python', 'JavaScript'] as const
export type Language = (typeof languages)[number]

/** Code that asks an endpoint. The key is read from the environment, where it needs one. */
export function codeFor(language: Language, url: string, request: unknown): string {
  const body = JSON.stringify(request)
  switch (language) {
    case 'curl':
      return `curl -sS '${url}' \\
  -H "Authorization: Bearer $ENDPOINT_KEY" -H 'Content-Type: application/json' \\
  -d '${body.replaceAll("'", `'\\''`)}'`
    case 'Go':
      return `package main

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
)

func main() {
	body := ${goText(body)}
	req, err := http.NewRequest("POST", ${JSON.stringify(url)}, strings.NewReader(body))
	if err != nil {
		panic(err)
	}
	req.Header.Set("Authorization", "Bearer "+os.Getenv("ENDPOINT_KEY"))
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		panic(err)
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(res.Body)
	if err != nil {
		panic(err)
	}
	fmt.Println(res.Header.Get("Inner-Ladder-Version"), string(answer))
}`
    case 'Python':
      return `import json, os, urllib.request

request = urllib.request.Request(
    ${JSON.stringify(url)},
    data=json.dumps(json.loads(${JSON.stringify(body)})).encode(),
    headers={"Content-Type": "application/json",
             "Authorization": "Bearer " + os.environ.get("ENDPOINT_KEY", "")})
with urllib.request.urlopen(request) as answer:
    print(answer.headers["Inner-Ladder-Version"], json.load(answer))`
    case 'JavaScript':
      return `const answer = await fetch(${JSON.stringify(url)}, {
  method: 'POST',
  headers: { 'Content-Type': 'application/json', Authorization: 'Bearer ' + (process.env.ENDPOINT_KEY ?? '') },
  body: JSON.stringify(${body}),
})
console.log(answer.headers.get('Inner-Ladder-Version'), JSON.stringify(await answer.json()))`
  }
}

/** A text as Go writes it. */
const goText = (s: string) => (s.includes('`') ? JSON.stringify(s) : '`' + s + '`')
