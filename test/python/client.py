"""A client that knows docs/http.md and Python's standard library, and nothing else.

Run as: client.py URL TOKEN. It ends with status 0 when everything that it was
told came true.
"""

import json
import sys
import urllib.error
import urllib.parse
import urllib.request
import uuid

URL, TOKEN = sys.argv[1], sys.argv[2]


def ask(method, path, body=None, headers=None, status=None):
    headers = {"Authorization": "Bearer " + TOKEN, **(headers or {})}
    if body is not None and not isinstance(body, bytes):
        body = json.dumps(body).encode()
        headers.setdefault("Content-Type", "application/json")
    request = urllib.request.Request(URL + "/api/v1" + path, body, headers, method=method)
    try:
        with urllib.request.urlopen(request, timeout=30) as answer:
            code, text = answer.status, answer.read()
    except urllib.error.HTTPError as e:
        code, text = e.code, e.read()
    if status is None:
        assert 200 <= code < 300, (method, path, code, text)
    else:
        assert code == status, (method, path, code, text)
    return [json.loads(line) for line in text.splitlines()] if path.endswith("#lines") else json.loads(text or b"null")


def lines(path):
    return ask("GET", path + "#lines")


ask("POST", "/spaces", {"space": "coldchain", "labels": {"team": "vans"}})
topic = ask("POST", "/channels", {"address": "coldchain/readings", "kind": "topic", "partitionCount": 2, "retain": "3d"})
assert topic["address"] == "coldchain/readings" and topic["retain"] == "3d", topic
readings = "/channels/coldchain/readings"

# A sequence counts the messages of one publisher in one partition.
publisher = {"Ferry-Publisher": str(uuid.uuid4()), "Content-Type": "application/json"}
for sequence in (1, 2, 3):
    kept = ask("POST", readings + "/messages?partition=0", b'{"celsius": %d}' % sequence, {**publisher, "Ferry-Sequence": str(sequence)})
    assert kept["accepted"] == 1, kept
again = ask("POST", readings + "/messages?partition=0", b'{"celsius": 3}', {**publisher, "Ferry-Sequence": "3"})
assert again["accepted"] == 0 and again["receipts"][0]["repeat"] and again["receipts"][0]["offset"] == 2, again
ask("POST", readings + "/messages?partition=0", b"x", {**publisher, "Ferry-Sequence": "9"}, status=409)
ask("POST", readings + "/messages", b"x", {"Ferry-Publisher": str(uuid.uuid4()), "Ferry-Sequence": "1"}, status=400)

events = lines(readings + "/messages?where=" + urllib.parse.quote("body.celsius > 1"))
assert sorted(e["message"]["body"]["celsius"] for e in events if "message" in e) == [2, 3], events

# A group: join, ask for the next, name what arrived, leave.
ask("POST", readings + "/groups", {"group": "compliance"})
group = readings + "/groups/compliance"
member = ask("POST", group + "/members", {"member": "python", "timeout": "15s"})["memberId"]
given = ask("POST", f"{group}/members/{member}/next", {"max": 2, "wait": "5s"})
assert len(given["messages"]) == 2, given
given = ask("POST", f"{group}/members/{member}/next", {"max": 2, "wait": "5s", "upTo": given["upTo"], "commit": True})
assert len(given["messages"]) == 1, given
assert ask("GET", group)["lag"] == 1
ask("DELETE", f"{group}/members/{member}")
gone = ask("POST", f"{group}/members/{member}/next", {"max": 1}, status=409)
assert gone["type"].endswith("no-member") and gone["next"], gone

# A queue: lease, accept one, reject one, look at it, send it back.
ask("POST", "/channels", {"address": "coldchain/inspections", "kind": "queue", "lease": "30s", "attemptLimit": 3})
queue = "/channels/coldchain/inspections"
for box in (1, 2):
    ask("POST", queue + "/messages", {"box": box})
leased = ask("POST", queue + "/lease", {"max": 2, "member": "python"})["messages"]
assert [m["attempt"] for m in leased] == [1, 1], leased
settled = ask("POST", queue + "/settle", {"settle": [
    {"lease": leased[0]["lease"], "outcome": "accept"},
    {"lease": leased[1]["lease"], "outcome": "reject", "reason": "broken", "detail": "box 2 is broken"},
]})["settled"]
assert [s["result"] for s in settled] == ["done", "done"], settled
dead = ask("GET", queue + "/items?state=dead")["items"]
assert len(dead) == 1 and dead[0]["state"] == "dead" and dead[0]["reason"] == "broken", dead
ask("POST", queue + "/actions", {"action": "return", "why": "mended"})
assert len(ask("POST", queue + "/lease", {"max": 1, "wait": "5s"})["messages"]) == 1

# What is wrong is said by name.
wrong = ask("POST", "/channels", {"address": "coldchain/doors", "kind": "topic", "partitons": 2}, status=400)
assert "partitons" in wrong["detail"], wrong
print("done")
