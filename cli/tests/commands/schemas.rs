//! What a command prints for programs is held against the schemas in `docs/schemas/`.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::LazyLock;

use jsonschema::Validator;
use serde_json::Value;

static SCHEMAS: LazyLock<BTreeMap<String, Validator>> = LazyLock::new(|| {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/schemas");
    let files = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let schema = |file: std::path::PathBuf| {
        let schema = serde_json::from_slice(&fs::read(&file).unwrap()).unwrap();
        (file.file_stem().unwrap().to_str().unwrap().to_owned(), jsonschema::validator_for(&schema).unwrap())
    };
    files.map(schema).collect()
});

/// Whose document it is.
fn schema_of(words: &[&str]) -> String {
    let has = |word: &str| words.contains(&word);
    let verbs = [
        "inspect", "check", "drives", "contents", "write", "compare", "fetch", "shelf", "ledger", "settings",
        "reclaim", "unpack", "gauge", "save", "rehearse", "station",
    ];
    let verb = words.iter().find(|word| verbs.contains(word)).copied().unwrap_or("failure");
    let more = match verb {
        "drives" if has("--watch") => "-watch",
        "drives" if has("--explain") => "-explain",
        "gauge" if has("--restore") => "-restore",
        "shelf" if has("verify") => "-verify",
        "ledger" if has("show") => "-show",
        "ledger" if has("report") || has("label") => "-files",
        _ => "",
    };
    format!("{verb}{more}")
}

/// Whether what was printed is what the schemas say, if it is for programs at all.
pub(crate) fn hold(words: &[&str], printed: &[u8]) {
    let is_export = words.contains(&"export");
    if !words.contains(&"--json") || printed.is_empty() || is_export {
        return;
    }
    for document in serde_json::Deserializer::from_slice(printed).into_iter::<Value>() {
        let document = document.unwrap_or_else(|error| panic!("{words:?}: {error}"));
        let name = if document.get("fault").is_some() { "failure".to_owned() } else { schema_of(words) };
        let schema = SCHEMAS.get(&name).unwrap_or_else(|| panic!("{words:?} has no schema"));
        let faults: Vec<String> = schema.iter_errors(&document).map(|error| error.to_string()).collect();
        assert!(faults.is_empty(), "{words:?} against {name}: {faults:?}: {document:#}");
    }
}

#[test]
fn the_schemas_turn_away_what_no_command_prints() {
    hold(
        &["compare", "--json"],
        br#"{"result": "verified", "bytes": 7, "against": {"file": "a"}, "conclusion": null, "holds": null,
        "read_again": 0, "differences": [], "more_differences": 0}"#,
    );
    let wrong = |words: &[&str], text: &str| {
        let schema = &SCHEMAS[&schema_of(words)];
        !schema.is_valid(&serde_json::from_str(text).unwrap())
    };
    assert!(wrong(&["compare"], r#"{"result": "fine", "bytes": 7}"#));
    assert!(
        wrong(&["drives"], r#"[{"tag": 5}]"#) && wrong(&["settings"], r#"[{"key": "color", "from": "elsewhere"}]"#)
    );
    assert!(wrong(&["ledger", "show"], "[]") && wrong(&["inspect"], r#"[{"file": "a", "bytes": -1}]"#));
}
