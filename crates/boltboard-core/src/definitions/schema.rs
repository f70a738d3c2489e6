//! The schema of our files, made of the table of their keys (JSON Schema, draft 2020-12).

use serde_json::{Map, Value, json};

use super::keys::{Key, Shape, TABLES, TableKeys, table};

/// Returns the schema of `boltboard.toml`, for editors.
pub fn definitions_schema() -> Value {
    let tables: Map<String, Value> = TABLES
        .iter()
        .filter(|table| table.name != "a board")
        .map(|table| (table.name.to_string(), of_table(table)))
        .collect();
    let mut properties = Map::new();
    for key in table("a board").map_or(&[][..], |board| board.keys) {
        properties.insert(key.name.into(), of_key(key));
    }
    for single in ["tree", "toolchain", "folder", "list"] {
        properties.insert(single.into(), reference(single));
    }
    properties.insert("host-toolchain".into(), reference("toolchain"));
    for named in TABLES.iter().filter(|table| table.written.ends_with(".NAME]")) {
        let names = json!({ "type": "object", "additionalProperties": reference(named.name) });
        properties.insert(named.name.into(), names);
    }
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "boltboard.toml",
        "type": "object",
        "properties": properties,
        "additionalProperties": false,
        "$defs": tables,
    })
}

/// Returns the schema of a profile.
pub fn profile_schema() -> Value {
    let scalar = json!({ "type": ["string", "integer", "boolean", "array"] });
    let texts = json!({ "type": "object", "additionalProperties": { "type": "string" } });
    let names = of_shape(Shape::Texts);
    let only_with = json!({
        "type": "object",
        "properties": { "compiler": names, "machine": names, "needs": names },
        "additionalProperties": false,
    });
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "a profile",
        "type": "object",
        "required": ["format", "tree"],
        "properties": {
            "format": { "const": 1 },
            "tree": { "type": "string", "description": "the tree that it is for" },
            "tree-version": { "type": "string" },
            "base": { "type": "array", "items": { "type": "string" }, "description": "layers, earlier ones weaker" },
            "choose": { "type": "object", "additionalProperties": scalar, "description": "values of options" },
            "providers": texts,
            "reasons": texts,
            "patches": { "type": "array", "items": { "type": "string" }, "description": "patches, in the folder NAME.changes" },
            "replaced": texts,
            "store": { "type": "string", "description": "where results are shared, if the person allows it" },
            "only-with": { "oneOf": [only_with, { "type": "array", "items": only_with }], "description": "hosts that it is for" },
        },
        "additionalProperties": false,
    })
}

/// Returns the reference of all keys, as the documents have it.
pub fn reference_text() -> String {
    let mut text = String::from(
        "# All keys of `boltboard.toml`\n\nMade from the table that the reader is held to; see [definitions.md](definitions.md) for how they are used.\n",
    );
    for table in TABLES {
        text.push_str(&format!(
            "\n## `{}`\n{}\n\n| key | what stands there | what it says |\n|---|---|---|\n",
            table.written, table.says
        ));
        for key in table.keys {
            let says = key.says.replace('|', "\\|");
            text.push_str(&format!("| `{}` | {} | {says} |\n", key.name, shown(key.shape)));
        }
    }
    text
}

fn reference(table: &str) -> Value {
    json!({ "$ref": format!("#/$defs/{table}") })
}

fn of_table(table: &TableKeys) -> Value {
    let properties: Map<String, Value> = table.keys.iter().map(|key| (key.name.to_string(), of_key(key))).collect();
    // Every option and condition can be a line of a list.
    let others = table.name == "list";
    json!({ "type": "object", "description": table.says, "properties": properties, "additionalProperties": others })
}

fn of_key(key: &Key) -> Value {
    let mut schema = of_shape(key.shape);
    if let Value::Object(schema) = &mut schema {
        schema.insert("description".into(), Value::String(key.says.into()));
    }
    schema
}

fn of_shape(shape: Shape) -> Value {
    let text = || json!({ "type": "string" });
    match shape {
        Shape::Text | Shape::Condition => text(),
        Shape::Word(words) => json!({ "enum": words }),
        Shape::Texts => json!({ "oneOf": [text(), { "type": "array", "items": text() }] }),
        Shape::Conditional => {
            let texts = of_shape(Shape::Texts);
            let entry = json!({ "type": "object", "properties": { "when": text(), "add": texts }, "additionalProperties": false });
            let member = json!({ "oneOf": [text(), entry] });
            json!({ "oneOf": [text(), entry, { "type": "array", "items": member }] })
        }
        Shape::Flag => json!({ "type": "boolean" }),
        Shape::Number => json!({ "type": "integer" }),
        Shape::Numbers => json!({ "type": "array", "items": { "type": "integer" } }),
        Shape::Named => json!({ "type": "object", "additionalProperties": text() }),
        Shape::Entry(keys) => of_entry(keys),
        Shape::Entries(keys) => {
            let member = json!({ "oneOf": [text(), of_entry(keys)] });
            json!({ "oneOf": [text(), of_entry(keys), { "type": "array", "items": member }] })
        }
        Shape::Like(table) => reference(table),
        Shape::NamedLike(table) => json!({ "type": "object", "additionalProperties": reference(table) }),
        Shape::Free => json!({}),
    }
}

fn shown(shape: Shape) -> String {
    match shape {
        Shape::Text => "a text".into(),
        Shape::Word(words) => words.iter().map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", "),
        Shape::Texts => "a text, or texts".into(),
        Shape::Conditional => "texts, or `{ when, add }`".into(),
        Shape::Condition => "a condition".into(),
        Shape::Flag => "`true` or `false`".into(),
        Shape::Number => "a number".into(),
        Shape::Numbers => "numbers".into(),
        Shape::Named => "texts by name".into(),
        Shape::Entry(keys) => table_of(keys),
        Shape::Entries(keys) => format!("texts, or {}", table_of(keys)),
        Shape::Like(table) => format!("the keys of `[{table}]`"),
        Shape::NamedLike(table) => format!("tables by name, each as `[{table}]`"),
        Shape::Free => "see there".into(),
    }
}

fn of_entry(keys: &[&str]) -> Value {
    let properties: Map<String, Value> = keys.iter().map(|key| (key.to_string(), json!({}))).collect();
    json!({ "type": "object", "properties": properties, "additionalProperties": false })
}

fn table_of(keys: &[&str]) -> String {
    format!("`{{ {} }}`", keys.join(", "))
}
