"""Holds every document in a directory against the schema of its kind, with a validator of its own.

validate.py DIRECTORY SCHEMAS: each file is one document. It prints how many there were of how many
kinds; the first that its schema does not let pass ends it.
"""

import json
import pathlib
import sys

import jsonschema

where, schemas = map(pathlib.Path, sys.argv[1:3])
known, seen = {}, {}


def closed(schema):
    """The schema with no field that it does not name."""
    if isinstance(schema, list):
        return [closed(s) for s in schema]
    if not isinstance(schema, dict):
        return schema
    out = {k: closed(v) for k, v in schema.items()}
    if schema.get("type") == "object":
        out["additionalProperties"] = False
    return out


for path in sorted(where.iterdir()):
    doc = json.loads(path.read_text())
    kind = doc["kind"]
    if kind not in known:
        schema = json.loads((schemas / f"{kind}.json").read_text())
        jsonschema.Draft202012Validator.check_schema(schema)
        known[kind] = [jsonschema.Draft202012Validator(s) for s in (schema, closed(schema))]
    for validator in known[kind]:
        validator.validate(doc)
    seen[kind] = seen.get(kind, 0) + 1
print(json.dumps({"documents": sum(seen.values()), "kinds": len(seen)}))
