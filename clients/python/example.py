"""Registers a version of a file and says which versions there are: python3 example.py SERVER TOKEN FILE"""

import sys

from innerladder import InnerLadder, Problem

server, token, file = sys.argv[1:]
ladder = InnerLadder(server, token)
print("signed in as", ladder.who_am_i()["name"])
made = ladder.register_files({"model": "heat-demand-py", "task": "regression", "metrics": {"rmse": 0.4}}, [("artifact", file)])
print("registered", made["ref"])
for version in ladder.each(ladder.list_versions, "heat-demand-py"):
    print(version["ref"], version["rung"], version["metrics"])
try:
    ladder.show_model("no-such-model")
except Problem as p:
    print("refused:", p.code, "|", p.remedy)
