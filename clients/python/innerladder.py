"""A thin client of Inner Ladder on Python's standard library alone.

    ladder = InnerLadder("http://127.0.0.1:7400", token)
    for model in ladder.each(ladder.list_models):
        print(model["name"])

Answers are what the API answers: dictionaries and lists. What is refused is raised as a Problem.
"""

import http.client
import json
import mimetypes
import os
import ssl
import urllib.parse
import uuid

from innerladder_operations import Operations


class Problem(Exception):
    """Why the service refused: its code, the field, what to do instead, and the id under which its log knows the call."""

    def __init__(self, status, said):
        super().__init__("; ".join(filter(None, [said.get("detail", f"status {status}"), said.get("remedy")])))
        self.status = status
        self.code = said.get("code", "")
        self.detail = said.get("detail", "")
        self.field = said.get("field", "")
        self.remedy = said.get("remedy", "")
        self.request_id = said.get("request_id", "")


class InnerLadder(Operations):
    """Calls the API of one service with one token."""

    def __init__(self, server, token, timeout=60, context=None):
        url = urllib.parse.urlsplit(server)
        self.scheme, self.host, self.base = url.scheme, url.netloc, url.path.rstrip("/")
        self.token, self.timeout = token, timeout
        self.context = context or (ssl.create_default_context() if url.scheme == "https" else None)

    @staticmethod
    def quoted(part):
        return urllib.parse.quote(str(part), safe="")

    def call(self, method, path, query=None, headers=None, body=None):
        """Calls the API: body is what becomes JSON, or bytes, or a file that is sent as it is."""
        asked = {k: v for k, v in (query or {}).items() if v is not None}
        if asked:
            path += "?" + urllib.parse.urlencode(
                {k: str(v).lower() if isinstance(v, bool) else v for k, v in asked.items()}, doseq=True
            )
        sent = {"Authorization": "Bearer " + self.token, "Accept": "application/json, */*;q=0.5"}
        sent.update({k: v for k, v in (headers or {}).items() if v is not None})
        if body is not None and not isinstance(body, (bytes, bytearray)) and not hasattr(body, "read"):
            body = json.dumps(body).encode()
            sent["Content-Type"] = "application/json"
        return self._send(method, path, sent, body)

    def _send(self, method, path, headers, body):
        if self.scheme == "https":
            c = http.client.HTTPSConnection(self.host, timeout=self.timeout, context=self.context)
        else:
            c = http.client.HTTPConnection(self.host, timeout=self.timeout)
        try:
            c.request(method, self.base + path, body=body, headers=headers)
            answer = c.getresponse()
            said = answer.read()
            kind = answer.headers.get_content_type()
            if answer.status >= 400:
                problem = json.loads(said) if kind.endswith("json") else {"detail": said.decode("utf-8", "replace")}
                raise Problem(answer.status, problem)
            if not said:
                return None
            return json.loads(said) if kind == "application/json" else said
        finally:
            c.close()

    def each(self, operation, *args, **named):
        """Goes through all parts of a list."""
        cursor = None
        while True:
            part = operation(*args, cursor=cursor, **named)
            yield from part["items"]
            cursor = part.get("next_cursor")
            if not cursor:
                return

    def register_files(self, spec, files):
        """Registers a version with its files: spec as the document says, files as (part, path), such as
        ("artifact", "model.onnx")."""
        boundary = uuid.uuid4().hex
        out = [self._part(boundary, "spec", None, "application/json", json.dumps(spec).encode())]
        for part, path in files:
            with open(path, "rb") as f:
                kind = mimetypes.guess_type(path)[0] or "application/octet-stream"
                out.append(self._part(boundary, part, os.path.basename(path), kind, f.read()))
        body = b"".join(out) + f"--{boundary}--\r\n".encode()
        return self.call(
            "POST", "/api/v1/versions", headers={"Content-Type": f"multipart/form-data; boundary={boundary}"}, body=body
        )

    @staticmethod
    def _part(boundary, name, file, kind, content):
        head = f'--{boundary}\r\nContent-Disposition: form-data; name="{name}"'
        if file:
            head += '; filename="{}"'.format(file.replace("\\", "\\\\").replace('"', '\\"'))
        return f"{head}\r\nContent-Type: {kind}\r\n\r\n".encode() + content + b"\r\n"
