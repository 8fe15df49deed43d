"""Prepares a disk by the program's documents alone: no line of text is read.

drive.py PROGRAM SCHEMAS DISK KIND PLACE [grow] puts a table, a partition and what is in it
onto the disk of that serial number, or of that name where it is name=NAME, which holds for the
first time alone: from then on it is found by what the results said. It has it used at the place
now and at each boot, and, if asked to, makes it as large as its disk allows. Each document that
comes is held against the schema that the program ships, and against the same without unknown
fields; SCHEMAS is - where there is no validator. It ends with one line of JSON: how many commands
were run, and how many of them changed something.
"""

import copy
import json
import os
import subprocess
import sys

program, schemas, serial, kind, place = sys.argv[1:6]
calls = changes = 0
opened = {}
if schemas != "-":
    import jsonschema


def closed(schema):
    """The schema with no field that it does not name."""
    if isinstance(schema, dict):
        out = {k: closed(v) for k, v in schema.items()}
        if schema.get("type") == "object":
            out["additionalProperties"] = False
        return out
    return [closed(s) for s in schema] if isinstance(schema, list) else schema


def held(doc):
    """Validates a document, and what a validator must let pass and refuse besides."""
    if schemas == "-":
        return
    name = doc["kind"]
    if name not in opened:
        with open(f"{schemas}/{name}.json") as f:
            schema = json.load(f)
        jsonschema.Draft202012Validator.check_schema(schema)
        make = jsonschema.Draft202012Validator
        opened[name] = make(schema), make(closed(schema))
    as_shipped, strict = opened[name]
    as_shipped.validate(doc)
    strict.validate(doc)
    more = dict(copy.deepcopy(doc), of_tomorrow=1)
    as_shipped.validate(more)
    assert not strict.is_valid(more), name
    assert not as_shipped.is_valid(dict(doc, kind="banana")), name


def ask(*words):
    """Runs a command, and gives its document with the exit code."""
    global calls
    calls += 1
    done = subprocess.run([program, *words, "--json"], stdin=subprocess.DEVNULL, capture_output=True)
    assert done.stderr == b"", (words, done.stderr)
    doc = json.loads(done.stdout)
    held(doc)
    return doc, done.returncode


def change(*words):
    """Has a change made; what it needs is given if nothing is lost by it."""
    global changes
    doc, code = ask(*words)
    if doc["kind"] == "draft" and code == 3:
        assert doc["stored"] and not [n for n in doc["needs"] if n["id"] == "loss"], doc["needs"]
        again, code = ask("commit", doc["code"])
        strip = lambda results: [{k: v for k, v in r.items() if k != "on"} for r in results]
        assert strip(again["results"]) == strip(doc["results"]), (doc["results"], again["results"])
        doc = again
    assert code == 0, (words, doc)
    assert doc["kind"] == "draft", doc
    changes += doc["changed"]
    return doc


def result(doc, role):
    found = [r for r in doc["results"] if r["role"] == role]
    assert len(found) == 1, (role, doc["results"])
    return found[0]


def device(word=None, **fields):
    """The one device of the survey with these fields."""
    doc, code = ask("survey", *([word] if word else []))
    assert code in (0, 4), doc
    found = [d for d in doc["devices"] if all(d.get(k) == v for k, v in fields.items())]
    assert len(found) == 1, (fields, [d["name"] for d in doc["devices"]])
    return found[0]


label = f"on-{kind}" if serial.startswith("name=") else "herbarium"
kept = f"/var/lib/driven-{kind}"
if not serial.startswith("name="):
    disk = device(serial=serial, form="disk")
    assert disk["target"]["stable"], disk["target"]
    word = disk["target"]["word"]
elif not os.path.exists(kept):
    disk = device(name=serial[len("name="):], form="disk")
    word = disk["target"]["word"]
else:
    with open(kept) as f:
        word = device(f.read(), number=1)["parent"]
table = change("table", "new", word, "--unless-there")
assert result(table, "table")["scheme"] == "gpt", table["results"]
size = "256MiB" if serial.startswith("name=") else "2GiB"
names = ["--type", "swap"] if kind == "swap" else ["--name", "herbarium"]
part = change("partition", "add", word, "--number", "1", "--size", size, *names, "--unless-there") if "grow" not in sys.argv else None
on = result(part, "partition")["target"] if part else device(word, number=1)["target"]["word"]
if serial.startswith("name="):
    with open(kept, "w") as f:
        f.write(on)
    assert on.startswith("PARTUUID="), on
role = "swap" if kind == "swap" else "file-system"
if part:
    made = result(change("format", on, kind, "--label", label, "--unless-there"), role)
    assert made["label"] == label and made["kind"] == kind, made
    if kind == "swap":
        change("fstab", "add", on, "swap")
        assert result(change("swap", "on", on), "swap")["on"]
    else:
        line = result(change("fstab", "add", on, place), "line")
        assert line["mount_point"] == place, line
        use = result(change("mount", place, "--owner", "7:7", "--mode", "2770"), "mount")
        assert use["mount_point"] == place and use["target"] == on, use
    now = device(word, number=1)
    assert now["target"]["word"] == on and now["lose"] == label, now
    if kind != "swap":
        assert now["used_at"] == [place], now
else:
    was = device(word, number=1)
    doc, code = ask("resize", on, "max", "--draft")
    if doc["kind"] == "error":  # it is used, and this machine makes it larger while it is not
        assert doc["id"] in ("kind-cannot", "in-use") and doc["state"] == "untouched", doc
        change("unmount", place)
    grown = change("resize", on, "max")
    layers = grown["layers"]
    assert [l["layer"] for l in layers][-2:] == ["partition", "content"], layers
    assert all(not l.get("stays") for l in layers), layers
    assert result(grown, "partition")["target"] == on, grown["results"]
    if kind != "swap":
        change("mount", place)
    if grown["changed"]:
        assert device(word, number=1)["size_bytes"] == layers[-2]["to_bytes"] > was["size_bytes"], layers

# What is refused says what it is, and what leads on.
doc, code = ask("partition", "add", word, "--number", "1", "--size", "1GiB", "--commit")
assert doc["id"] in ("exists", "no-room") and (code, doc["state"], doc["target"]["word"]) == (1, "untouched", word), doc
doc, code = ask("format", on, "ext4", "--commit")
assert code == 1 and doc["id"] in ("needs", "in-use"), doc
if doc["id"] == "needs":
    assert [n["option"] for n in doc["needs"]] == ["--lose=" + label], doc
else:
    assert doc["next"]["words"][:2] in (["fundus", "unmount"], ["fundus", "swap"]) and not doc["next"]["destroys"], doc
doc, code = ask("survey", "SERIAL=of-nobody")
assert (doc["id"], code) == ("no-such-device", 1), doc
print(json.dumps({"calls": calls, "changes": changes}))
