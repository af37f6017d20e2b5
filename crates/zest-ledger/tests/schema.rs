//! The JSON Schema: checked in, the same as the one the code makes, and in agreement with the loader.

use zest_testkit::pages::same_as_file;

use crate::support::PIER;

/// Turns TOML into JSON as editors do: dates become texts.
fn as_json(text: &str) -> serde_json::Value {
    fn value(from: &toml::de::DeValue<'_>) -> serde_json::Value {
        use toml::de::DeValue;
        match from {
            DeValue::String(s) => s.to_string().into(),
            DeValue::Integer(n) => n.as_str().parse::<i64>().expect("a small number").into(),
            DeValue::Float(n) => n.as_str().parse::<f64>().expect("a number").into(),
            DeValue::Boolean(b) => (*b).into(),
            DeValue::Datetime(d) => d.to_string().into(),
            DeValue::Array(items) => items.iter().map(|i| value(i.get_ref())).collect(),
            DeValue::Table(table) => {
                serde_json::Value::Object(table.iter().map(|(k, v)| (k.get_ref().to_string(), value(v.get_ref()))).collect())
            }
        }
    }
    value(&toml::de::DeValue::Table(toml::de::DeTable::parse(text).expect("TOML").into_inner()))
}

#[test]
fn the_checked_in_schema_is_the_one_the_code_makes() {
    same_as_file("docs/ledger.schema.json", &format!("{:#}\n", zest_ledger::json_schema()));
}

#[test]
fn the_schema_accepts_what_the_loader_accepts_and_refuses_what_it_refuses() {
    let schema = jsonschema::validator_for(&zest_ledger::json_schema()).expect("the schema is a schema");
    let mut good = vec![PIER.to_owned()];
    for folder in ["lanternsound", "with-defects"] {
        let path = format!("{}/../zest-cli/demo/{folder}", env!("CARGO_MANIFEST_DIR"));
        for entry in
            std::fs::read_dir(path).expect("the demo is there").flatten().filter(|e| e.path().extension().is_some_and(|x| x == "toml"))
        {
            good.push(std::fs::read_to_string(entry.path()).expect("a document"));
        }
    }
    for text in good {
        let errors: Vec<String> = schema.iter_errors(&as_json(&text)).map(|e| e.to_string()).collect();
        assert!(errors.is_empty(), "{errors:?}\n{text}");
    }
    for bad in [
        "[users.a]\nproof = [\"password\"]",
        "[users.a]\nname = 7",
        "[users.a]\nproofs = [\"pasword\"]",
        "[roles.a]\nband = { start = 1, ceiling = 16 }",
        "[origins.a]\nremark = \"no networks\"",
        "[systems.a]\nkind = \"toaster\"",
        "[users.\"\"]",
        "unknown = 1",
    ] {
        assert!(!schema.is_valid(&as_json(bad)), "the schema accepts {bad}");
        assert!(crate::support::findings(bad).has_errors(), "the loader accepts {bad}");
    }
}
