//! OpenAPI documents in both of their forms: the same operations, and faults with their places.

use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::finding::Finding;
use zest_ledger::{Engine, Ledger, Question};

use crate::support::{ask, outcome};

const LEDGER: &str = r#"
[users.clerk-1]
proofs = ["password"]
[systems.sky]
kind = "cloud"
[clouds.sky]
interface = "NAME"
resources = { line = {} }
addresses = { "/records" = "line" }
grants = [{ allow = ["records.list", "tag:care"], on = "line", to = ["user:clerk-1"] }]
"#;

const YAML: &str = r##"# Records of the line.
openapi: 3.1.0
info: { title: "Records", version: "2" }
paths:
  /records:
    get: &list
      operationId: records.list
      description: |
        Lists them: all,
        line by line.
      responses:
        200: { $ref: "#/components/responses/many" }
    "post":
      operationId: 'records.put'
      tags:
        - care
        - "größer"
  /records/{record}:
    $ref: '#/components/pathItems/record'
  /archive:
    get: { operationId: archive.list, tags: [care] }
components:
  responses:
    many: {}
  pathItems:
    record:
      delete:
        operationId: records.delete
"##;

const JSON: &str = r##"{"openapi": "3.1.0", "paths": {
  "/records": {"get": {"operationId": "records.list"}, "post": {"operationId": "records.put", "tags": ["care"]}},
  "/records/{record}": {"$ref": "#/components/pathItems/record"},
  "/archive": {"get": {"operationId": "archive.list", "tags": ["care"]}}},
  "components": {"pathItems": {"record": {"delete": {"operationId": "records.delete"}}}}}"##;

fn ledger(name: &str, text: &str) -> Ledger {
    Ledger::new().document_bytes(name, text.as_bytes()).document("ledger.toml", &LEDGER.replace("NAME", name))
}

/// What is wrong with a document in YAML: its message, line and column.
fn faults(text: &str) -> Vec<(String, u32, u32)> {
    let found = ledger("sky.openapi.yaml", text).validate().findings;
    let place = |f: &Finding| f.primary.as_ref().map(|l| found.sources().locate(l.place)).expect("it has a place");
    let of_interface = found.list().iter().filter(|f| f.primary.as_ref().is_some_and(|_| place(f).file.ends_with(".yaml")));
    of_interface.map(|f| (f.message.clone(), place(f).line, place(f).column)).collect()
}

#[test]
fn both_forms_describe_the_same_operations() {
    for (name, text) in [("sky.openapi.json", JSON), ("sky.openapi.yaml", YAML), ("sky.openapi.yml", YAML)] {
        let engine = Engine::compile(ledger(name, text).estate().unwrap_or_else(|f| panic!("{f}"))).expect("it compiles");
        for (line, expected) in [
            ("records.list on line", Ok(Verdict::Allowed)),
            ("records.put on line", Ok(Verdict::Allowed)),
            ("POST /records", Ok(Verdict::Allowed)),
            ("archive.list on line", Ok(Verdict::Allowed)),
            ("DELETE /records/7 on line", Err(Refusal::NotGranted)),
            ("records.drop on line", Err(Refusal::UnknownOperation)),
        ] {
            assert_eq!(outcome(&ask(&engine, &Question::new("clerk-1", "sky", line))), expected, "{name}: {line}");
        }
    }
}

#[test]
fn faults_have_their_place_in_the_yaml() {
    let bad = YAML.replace("archive.list", "records.list").replace("#/components/pathItems/record", "#/components/pathItems/none");
    let found = faults(&bad);
    let said: Vec<(&str, u32, u32)> = found.iter().map(|(m, l, c)| (m.as_str(), *l, *c)).collect();
    assert!(said.contains(&("the operation `records.list` is described twice", 21, 25)), "{said:?}");
    assert!(
        said.contains(&("the path `/records/{record}` refers to `#/components/pathItems/none`, which is not in this document", 19, 5)),
        "{said:?}"
    );
    let no_object = YAML.replace("post\":\n      operationId: 'records.put'\n", "post\": nothing\n    patch:\n");
    assert_eq!(faults(&no_object)[0], ("POST /records is not an object".to_owned(), 13, 13));
}

#[test]
fn what_is_no_yaml_or_not_to_be_told_is_refused_at_its_place() {
    let bomb: String = (1..30).map(|i| format!("b{i}: &b{i} [*b{}, *b{}, *b{}]\n", i - 1, i - 1, i - 1)).collect();
    for (text, message, line) in [
        ("openapi: 3.1.0\npaths: [", "the interface cannot be read as YAML", 2),
        ("openapi: 3.1.0\n---\npaths: {}\n", "the interface cannot be read as YAML: it holds more than one document", 2),
        ("base: &base {}\npaths:\n  <<: *base\n", "the interface cannot be read as YAML: `<<` is not part of YAML 1.2", 3),
        ("paths: &paths\n  /x: *paths\n", "the interface cannot be read as YAML: an alias stands inside of what it means", 2),
        ("paths: *nothing\n", "the interface cannot be read as YAML", 1),
        ("? [a, b]\n: c\n", "the interface cannot be read as YAML: a key is a list or an object", 1),
        (
            &format!("b0: &b0 {}\n{bomb}", "x".repeat(2_000)),
            "the interface cannot be read as YAML: its aliases make it more than four times",
            2,
        ),
        ("", "the interface cannot be read", 1),
        ("just a text", "the interface cannot be read", 1),
        ("openapi: 2.0\npaths: {}\n", "the document is not of OpenAPI 3.0 or 3.1", 1),
    ] {
        let found = faults(text);
        assert!(found.iter().any(|(m, l, _)| m.starts_with(message) && (*l == line || line == 2 && *l > 2)), "{text:?}: {found:?}");
    }
}

#[test]
fn a_document_cut_anywhere_is_read_or_refused() {
    for cut in (0..YAML.len()).filter(|&i| YAML.is_char_boundary(i)) {
        let _ = ledger("sky.openapi.yaml", &YAML[..cut]).validate();
        let swapped = format!("{}\t{{[*&!|>%@`\"'{}", &YAML[..cut], &YAML[cut..]);
        let _ = ledger("sky.openapi.yaml", &swapped).validate();
    }
}
