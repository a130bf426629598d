"""Asks the server everything its own description allows, and counts what it accepts.

    python script/http_check.py target/debug/rallo [examples per operation]

A server is started on a fresh data folder with a few small pictures. For each operation of `/api/openapi.json`, requests
are made from the description alone (package `schemathesis`); only what a description cannot know is put in: numbers of
frames, recipes and runs that are there, and folders that may be used. Every answer must have the described shape, and
none may be a failure of the server. At least three quarters of all requests must be accepted.
"""

import json
import pathlib
import random
import re
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections import Counter, defaultdict

import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import content_type_conformance, response_schema_conformance

PROGRAM = str(pathlib.Path(sys.argv[1]).resolve())
EXAMPLES = int(sys.argv[2]) if len(sys.argv) > 2 else 8
LEAST_ACCEPTED = 0.75
CHECKS = [not_a_server_error, content_type_conformance, response_schema_conformance]
# They take away what others look at, so they come last.
LAST = ("POST /api/runs/{id}/undo", "DELETE", "POST /api/runs/{id}/retry")
# A stream that does not end.
LEFT_OUT = {"GET /events"}


@schemathesis.serializer("application/pdf")
def bytes_as_they_are(_, value):
    return value


class Server:
    """A server on a fresh folder, and what there is on it."""

    def __init__(self, folder):
        self.folder = pathlib.Path(folder)
        self.pictures = self.folder / "Pictures"
        self.data = self.folder / "data"
        self.pictures.mkdir()
        ffmpeg = ["ffmpeg", "-loglevel", "error", "-f", "lavfi", "-i", "testsrc=size=96x64:rate=5"]
        subprocess.run(ffmpeg + ["-frames:v", "6", str(self.pictures / "bed_%02d.jpg")], check=True)
        subprocess.run(ffmpeg + ["-t", "1", str(self.pictures / "clip.mp4")], check=True)
        token = subprocess.run(
            [PROGRAM, "token", "add", "tester", "--data", str(self.data)], check=True, capture_output=True, text=True)
        self.token = token.stdout.split()[-1]
        self.process = subprocess.Popen(
            [PROGRAM, "serve", "--data", str(self.data), "--root", str(self.pictures), "--port", "0"],
            stdout=subprocess.PIPE, text=True)
        for line in self.process.stdout:
            found = re.search(r"http://[\d.:]+", line)
            if found:
                self.url = found[0]
                break

    def ask(self, method, path, body=None, raw=None, kind="application/json"):
        data = raw if raw is not None else None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.url + path, data=data, method=method)
        request.add_header("Authorization", f"Bearer {self.token}")
        if data is not None:
            request.add_header("Content-Type", kind)
        try:
            answer = urllib.request.urlopen(request, timeout=60)
        except urllib.error.HTTPError as refused:
            sys.exit(f"{method} {path} {body}: {refused} {refused.read().decode()}")
        with answer:
            text = answer.read()
            return json.loads(text) if answer.headers.get_content_type().endswith("json") else text

    def lay_out(self):
        """A shoot, a recipe with a few lines, and a run of it that has ended."""
        self.ask("POST", "/api/shoots", {"places": [{"path": str(self.pictures)}]})
        self.shoot = self.ask("GET", "/api/shoots")[0]["id"]
        self.frames = []
        while len(self.frames) < 6:
            self.frames = self.ask("POST", "/api/view", {})["ids"]
        self.recipe = self.new_recipe()
        self.run = self.ended(self.ask("POST", "/api/runs", {})["run"])
        steps = [{"step": "exposure", "stops": 0.5}]
        clip = {"kind": "video", "size": "own", "name": "clip", "to": "subfolder"}
        self.new_recipe("Clip", steps, [clip, {"kind": "pdf", "name": "beds", "to": "subfolder"}])
        self.clips = self.ended(self.ask("POST", "/api/runs", {})["run"])
        written = self.ask("GET", f"/api/runs/{self.clips}")["items"]
        self.clip = next(i["position"] for i in written if i["files"] and i["files"][0]["clip"])
        paper = next(i["position"] for i in written if i["files"] and i["files"][0]["name"].endswith(".pdf"))
        self.pdf = self.ask("GET", f"/api/runs/{self.clips}/items/{paper}/file/0")
        self.shoot_file = self.ask("GET", "/api/shoot-file")
        self.recipe_file = json.dumps(self.ask("GET", f"/api/recipes/file?ids={self.recipe}"))
        self.waiting = self.ask("POST", "/api/runs", {"at": "2099-01-01T00:00:00Z"})["run"]

    def new_recipe(self, name="Beds", steps=None, deliveries=None):
        """A new recipe, on the desk; its number."""
        document = {"format": "rallo-recipe", "version": 1, "name": name,
                    "steps": steps or [{"step": "resize", "long_edge": 48}],
                    "deliveries": deliveries or [{"kind": "pictures", "name": "{stem}-web", "to": "subfolder"}]}
        return self.ask("POST", "/api/recipes", document)["id"]

    def ended(self, run):
        while self.ask("GET", f"/api/runs/{run}")["progress"]["state"] != "done":
            time.sleep(0.05)
        return run

    def asking(self):
        """A run that waits at a checkpoint."""
        self.new_recipe("Asks", [{"step": "exposure", "stops": 0.5, "checkpoint": "Is it light enough?"}])
        return self.ask("POST", "/api/runs", {})["run"]

    def prepare(self, label):
        """What must have happened before some operations, and for all of them: the shoot and the recipe on the desk."""
        desk = {"shoot": self.shoot, "list": None, "selection": [], "recipe": self.recipe}
        self.ask("PUT", "/api/desk", desk)
        def gathered():
            while self.ask("GET", "/api/gather")["phase"] in ("looking", "copying"):
                time.sleep(0.02)

        if label in ("POST /api/gather", "POST /api/gather/go"):
            gathered()
        if label == "POST /api/gather/go":
            self.ask("POST", "/api/gather", {"target": str(self.pictures / "copies"), "template": "{stem}"})
            gathered()
        if label == "POST /api/camera":
            self.ask("POST", "/api/camera/stop")
            while self.ask("GET", "/api/camera")["on"]:
                time.sleep(0.02)

    def number(self, path):
        """A number of what the path is about that is there; a fresh one of what may be taken away."""
        if path.endswith("/checkpoint"):
            return self.asking()
        if path.endswith(("/proxy", "/still")):
            return self.clips
        if path.startswith("/api/runs"):
            return self.waiting if path.endswith(("/cancel", "/pause", "/go-on", "/move")) else self.run
        if path.startswith("/api/recipes"):
            return self.new_recipe() if path == "/api/recipes/{id}" else self.recipe
        if path.startswith("/api/frames"):
            return random.choice(self.frames)
        if path.startswith("/api/selections"):
            return self.ask("POST", "/api/selections", {"name": "Best", "ids": self.frames[:2]})["id"]
        if path.startswith("/api/tokens"):
            return self.ask("POST", "/api/tokens", {"name": "another"})["id"]
        if path.startswith("/api/watches"):
            watches = self.ask("GET", "/api/watches")
            if watches:
                return watches[0]["id"]
            arriving = self.pictures / "arriving"
            arriving.mkdir(exist_ok=True)
            return self.ask("POST", "/api/watches", {"name": "Arriving", "recipe": self.recipe, "folder": str(arriving)})["id"]
        return self.shoot

    def drop(self):
        name = self.ask("POST", "/api/drops")["drop"]
        picture = (self.pictures / "bed_01.jpg").read_bytes()
        self.ask("PUT", f"/api/drops/{name}/files/bed.jpg", raw=picture, kind="application/octet-stream")
        return name

    def known(self, name, value, path):
        """What stands for a value that a description cannot know; else the value itself."""
        if value is None and name != "body":
            return value
        if name == "frame":
            return random.choice(self.frames)
        if name in ("ids", "leave_out", "selection", "only") and isinstance(value, list):
            return random.sample(self.frames, min(len(value), 3))
        if name == "recipe" and isinstance(value, int):
            return self.recipe
        if name == "shoot":
            return self.shoot
        if name == "list":
            return None
        if name == "before" and isinstance(value, int) and not isinstance(value, bool):
            return random.choice(self.frames)
        if name in ("folder", "target", "parent", "path"):
            if path == "/api/clip":
                return str(self.pictures / "clip.mp4")
            return str(self.pictures)
        if name == "to" and path.endswith("/run"):
            return str(self.pictures / "brought")
        if name == "report_to":
            return "http://127.0.0.1:9/report"
        if name == "at" and path.startswith(("/api/sheet", "/api/runs")) and isinstance(value, str):
            return "2099-01-01T00:00:00Z"
        if name == "becomes":
            return "2026-05-04 09:31:07"
        if name == "daily":
            return "07:30"
        if name == "position":
            return 0
        if path.endswith("/part") and name in "xywh":
            return 20
        if name in ("stage", "turn"):
            return 0
        if name == "version" and path == "/api/recipes/{id}":
            return 1
        if name == "at" and path in ("/api/neutral", "/api/value"):
            return [0.5, 0.5]
        if name == "line":
            return 0
        if name == "clock":
            return "2026-04-12T07:00:00"
        if name in ("name", "template") and path in ("/api/names", "/api/gather"):
            return "{stem}-{n:03}"
        return value

    def fill(self, value, path):
        if isinstance(value, dict):
            if value.get("format") == "rallo-recipe":
                return value
            return {k: self.fill(self.known(k, v, path), path) for k, v in value.items()}
        if isinstance(value, list):
            return [self.fill(v, path) for v in value]
        return value


def without_tuples(value):
    """Lists whose places have types of their own, told by their lengths alone: the tester takes them for faults."""
    if isinstance(value, dict):
        return {k: without_tuples(v) for k, v in value.items() if k != "prefixItems"}
    return [without_tuples(v) for v in value] if isinstance(value, list) else value


def check(server):
    schema = schemathesis.openapi.from_dict(without_tuples(server.ask("GET", "/api/openapi.json")))
    schema.config.update(base_url=server.url)
    counts = defaultdict(Counter)
    refused = {}
    faults = []

    def one(operation):
        label = operation.label
        path = operation.path

        @settings(max_examples=EXAMPLES, deadline=None, database=None, derandomize=True, phases=[Phase.generate],
                  suppress_health_check=list(HealthCheck))
        @given(case=operation.as_strategy())
        def ask(case):
            parameters = case.path_parameters or {}
            for name in list(parameters):
                if name == "id":
                    parameters[name] = server.number(path)
                elif name in ("position", "n"):
                    parameters[name] = server.clip if path.endswith(("/proxy", "/still")) else 0
                elif name == "version":
                    parameters[name] = 1
                elif name == "drop":
                    parameters[name] = server.drop()
                elif name == "name":
                    parameters[name] = "bed.jpg"
            for name in list(case.query or {}):
                case.query[name] = server.known(name, case.query[name], path)
                if name == "ids":
                    case.query[name] = str(server.recipe)
            if path == "/api/smaller":
                case.body = server.pdf
            elif path == "/api/shoot-file":
                case.body = server.shoot_file if isinstance(server.shoot_file, str) else json.dumps(server.shoot_file)
            elif path == "/api/recipes/load":
                case.body = server.recipe_file
            elif isinstance(case.body, (dict, list)):
                case.body = server.fill(case.body, path)
            server.prepare(label)
            answer = case.call(headers={"Authorization": f"Bearer {server.token}"}, timeout=60)
            kind = "accepted" if answer.status_code < 400 else "failed" if answer.status_code >= 500 else "refused"
            counts[label][kind] += 1
            if kind == "refused":
                refused.setdefault(label, answer.text[:200])
            try:
                case.validate_response(answer, checks=CHECKS)
            except BaseException as fault:  # a group of failures
                faults.append((label, case.as_curl_command()[:600], str(getattr(fault, "exceptions", fault))[:600]))

        ask()

    operations = [result.ok() for result in schema.get_all_operations()]
    operations.sort(key=lambda operation: operation.label.startswith(LAST))
    for operation in operations:
        if operation.label not in LEFT_OUT:
            one(operation)
    return counts, refused, faults


def main():
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        try:
            server.lay_out()
            counts, refused, faults = check(server)
        finally:
            server.process.terminate()
            server.process.wait()
    total = sum(counts.values(), Counter())
    for label, count in sorted(counts.items(), key=lambda c: c[1]["accepted"] / sum(c[1].values())):
        share = count["accepted"] / sum(count.values())
        if share < 0.5:
            print(f"{share:5.0%} of {sum(count.values()):3} accepted: {label}; for one: {refused.get(label, '')}")
    for fault in faults[:20]:
        print("FAULT", *fault, sep="\n  ")
    share = total["accepted"] / total.total()
    print(f"{total.total()} requests to {len(counts)} operations: {total['accepted']} accepted ({share:.0%}), "
          f"{total['refused']} refused, {total['failed']} failed, {len(faults)} answers of another shape")
    if faults or total["failed"] or share < LEAST_ACCEPTED:
        sys.exit(1)


main()
