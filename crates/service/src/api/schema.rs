//! The schema of a JSON report, for whoever reads one: taken out of the document of the API.

use std::collections::BTreeSet;

use serde_json::{Map, Value, json};

/// The schema of [`kesmo_wire::api::JsonReport`], out of the document of the API.
pub(super) fn of_report(document: &Value) -> Value {
    let all = document["components"]["schemas"].as_object().cloned().unwrap_or_default();
    let mut definitions = Map::new();
    let mut wanted = BTreeSet::from(["JsonReport".to_owned()]);
    while let Some(name) = wanted.pop_first() {
        if let Some(mut schema) = all.get(&name).filter(|_| !definitions.contains_key(&name)).cloned() {
            point_to_definitions(&mut schema, &mut wanted);
            definitions.insert(name, schema);
        }
    }
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A run as Kesmo reports it",
        "$ref": "#/$defs/JsonReport",
        "$defs": definitions,
    })
}

/// Has references point to where they lead here, and gathers their names.
fn point_to_definitions(schema: &mut Value, names: &mut BTreeSet<String>) {
    match schema {
        Value::Object(fields) => {
            for (key, value) in fields.iter_mut() {
                match value {
                    Value::String(to) if key == "$ref" => {
                        let name = to.trim_start_matches("#/components/schemas/").to_owned();
                        *to = format!("#/$defs/{name}");
                        names.insert(name);
                    }
                    value => point_to_definitions(value, names),
                }
            }
        }
        Value::Array(items) => items.iter_mut().for_each(|item| point_to_definitions(item, names)),
        _ => {}
    }
}
