//! The JSON Schema: checked in, the same as the one the code makes, and in agreement with the loader.

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
    let wrong = wrong();
    for bad in &wrong {
        assert!(crate::support::findings(bad).has_errors(), "the loader accepts {bad}");
    }
    let missed: Vec<&String> = wrong.iter().filter(|bad| schema.is_valid(&as_json(bad))).collect();
    assert!(missed.is_empty(), "of {} wrong documents the schema accepts {}: {missed:#?}", wrong.len(), missed.len());
}

/// Wrong documents, each in one way that a schema can express.
fn wrong() -> Vec<String> {
    let device =
        |line: &str| format!("[systems.sw]\nkind = \"network-device\"\nvocabulary = \"make\"\nno-command-set = \"nothing\"\n{line}");
    let assignment = |line: &str| format!("[[assignments]]\nto = [\"user:a\"]\nroles = [\"r\"]\n{line}");
    let grant = |keys: &str| format!("[clouds.sky]\ngrants = [{{ {keys} }}]");
    let rule = |rule: &str| format!("[command-sets.s]\nrules = [{rule}]");
    let mut list: Vec<String> = [
        // Names, keys and types.
        "[users.a]\nproof = [\"password\"]",
        "[users.a]\nname = 7",
        "[users.a]\nproofs = [\"pasword\"]",
        "[users.a]\nproofs = \"password\"",
        "[users.a]\ndisabled = \"yes\"",
        "[users.\"\"]",
        "[users.\" a\"]",
        "[users.\"a\\u0007b\"]",
        "unknown = 1",
        "format = 0",
        "users = []",
        "[roles.a]\nband = { start = 1, ceiling = 16 }",
        "[roles.a]\nband = { start = 1 }",
        "[origins.a]\nremark = \"no networks\"",
        // Kinds, and what they need.
        "[systems.a]\nkind = \"toaster\"",
        "[systems.a]\nlabels = { class = \"switch\" }",
        "[systems.sw]\nkind = \"network-device\"\nno-command-set = \"nothing\"",
        "[systems.sw]\nkind = \"network-device\"\nvocabulary = \"make\"",
        "[systems.box]\nkind = \"host\"",
        // References with their type.
        "[groups.g]\nmembers = [\"watch-1\"]",
        "[groups.g]\nowners = [\"role:r\"]",
        "[roles.r]\nassumable = { by = [\"night-1\"] }",
        "[hosts.box]\nrun-as = [{ by = [\"batch\"], as = [\"root\"], commands = [\"s\"] }]",
        "[clouds.sky]\nacting = [{ as = \"group:g\", by = [\"user:a\"] }]",
        // Networks, hours, lengths and moments.
        "[origins.a]\nnetworks = [\"the office\"]",
        "[origins.a]\nnetworks = [\"192.0.2.0/24 \", \"192.0.2.0/x\"]",
        "[users.a]\nuntil = 2027-03-31T18:00:00",
        "[users.a]\nuntil = \"soon\"",
    ]
    .map(str::to_owned)
    .into();
    list.extend([
        device("own-levels = [{ command = \"show log\" }]"),
        device("accounts.yard = { band = { start = 1, ceiling = 7 }, credential = \"hunter\" }"),
        assignment("on = { all = true }\nwhen = { hours = \"6-22\" }"),
        assignment("on = { all = true }\nwhen = { hours = \"06:00-25:00\" }"),
        assignment("on = { all = true }\nwhen = { days = [\"monday\"] }"),
        assignment("on = { all = true }\nwhen = { proof-age = \"1h\" }"),
        assignment("on = { all = true }\nwhen = { proof = [\"key\"], proof-age = \"-1h\" }"),
        assignment("on = { all = true }\nwhen = { origin = [\"anywhere\"] }"),
        assignment("on = { at = \"line\" }"),
        assignment(""),
        grant("allow = [\"read\"], deny = [\"read\"], on = \"a\", to = [\"user:a\"]"),
        grant("on = \"a\", to = [\"user:a\"]"),
        grant("allow = [\"read\"], on = \"a\", to = [\"everybody\"]"),
        rule("\"permit show log\""),
        rule("\"allow\""),
        rule("{ allow = \"show log\", deny = \"show log\" }"),
        rule("{ after = { confirm = true } }"),
        "[databases.d]\ngrants = [{ on = \"table a.b\", to = [\"r\"] }]".to_owned(),
    ]);
    list
}
