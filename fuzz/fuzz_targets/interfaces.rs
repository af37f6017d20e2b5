//! Any bytes as an OpenAPI document, in JSON and in YAML: read or refused.
#![no_main]

use libfuzzer_sys::fuzz_target;
use zest_ledger::Ledger;

fuzz_target!(|bytes: &[u8]| {
    for name in ["sky.openapi.json", "sky.openapi.yaml"] {
        let _ = Ledger::new().document_bytes(name, bytes).validate();
    }
});
