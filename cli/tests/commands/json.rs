//! What programs read: the keys of every document that no other test shows whole.

use pyrotyp_sample::{TorrentKind, embed_sum, torrent};

use super::bench::{Bench, RESCUE, steady, tag_of};
use super::schemas::hold;

#[test]
fn the_shelf_and_its_verification_are_documents() {
    let bench = Bench::new().stick("a", "");
    let mut told = vec![bench.pyrotyp("shelf --json"), bench.pyrotyp("shelf add rescue.iso --json --quiet")];
    let written = bench.on_tray(&format!("write rescue --to {} --unattended --quiet", tag_of(&bench, "a")));
    assert!(written.starts_with("exit 0"), "{written}");
    told.push(bench.pyrotyp("shelf --json"));
    told.push(bench.pyrotyp("shelf verify --json --quiet"));
    let on_shelf = bench.path(".local/state/pyrotyp/shelf/rescue.iso");
    let mut spoilt = RESCUE.clone();
    spoilt[4_000_000] ^= 1;
    std::fs::write(on_shelf, spoilt).unwrap();
    told.push(bench.pyrotyp("shelf verify --json --quiet"));
    steady().bind(|| insta::assert_snapshot!("shelf", told.join("\n")));
}

#[test]
fn every_proof_of_a_check_is_in_its_document() {
    let mut image = RESCUE.clone();
    embed_sum(&mut image);
    let bench = Bench::new()
        .file("larkspur.img", include_bytes!("../../../sample/signed/larkspur.img"))
        .file("SHA256SUMS", include_bytes!("../../../sample/signed/SHA256SUMS"))
        .file("SHA256SUMS.asc", include_bytes!("../../../sample/signed/list.asc"))
        .file("releases.key", include_bytes!("../../../sample/signed/releases.key"))
        .file("rescue.torrent", &torrent(TorrentKind::Second, "rescue.iso", &image, 64 << 10));
    let mut told = vec![bench.pyrotyp("check larkspur.img --key releases.key --json --quiet")];
    image[3_000_000] ^= 1;
    let bench = bench.file("rescue.iso", &image);
    told.push(bench.pyrotyp("check rescue.iso --json --quiet"));
    steady().bind(|| insta::assert_snapshot!("checked", told.join("\n")));
}

#[test]
fn the_rules_and_a_refused_job_are_documents() {
    let bench = Bench::new().stick("a", "write_protected = true");
    let rules = bench.pyrotyp("drives --explain --json");
    let rules: serde_json::Value = serde_json::from_str(rules.strip_prefix("exit 0\n").unwrap()).unwrap();
    let rules = rules.as_array().unwrap();
    assert!(rules.iter().all(|rule| rule["when"].is_string() && rule["about"].is_string()));
    let levels: Vec<_> = rules.iter().filter(|rule| rule["id"] == "too-small").map(|rule| &rule["level"]).collect();
    assert_eq!(levels, ["stop"]);
    let refused = bench.on_tray(&format!("write rescue.iso --to {} --unattended --json --quiet", tag_of(&bench, "a")));
    assert!(!bench.was_touched("a"));
    steady().bind(|| insta::assert_snapshot!("refused", refused));
}

#[test]
fn whatever_goes_wrong_a_document_comes_and_says_what_and_what_next() {
    let bench = Bench::new().stick("a", "").file("noise.iso", &[7; 5000]);
    let tag = tag_of(&bench, "a");
    let asked = [
        "write rescue.iso --accept everything".to_owned(),
        "write rescue.iso --tray tray".to_owned(),
        format!("write nowhere.iso --to {tag} --tray tray --unattended"),
        format!("write noise.iso --to {tag} --tray tray --unattended"),
        "write rescue.iso --to 00000 --tray tray --unattended".to_owned(),
        format!("write rescue.iso --to {tag} --tray tray --unattended --sum sha256:{}", "0".repeat(64)),
        format!("compare {tag} nowhere.iso --tray tray"),
        "contents 00000 --tray tray".to_owned(),
        "check noise.iso".to_owned(),
        "shelf verify nothing".to_owned(),
        "shelf add noise.iso nowhere.iso".to_owned(),
        "fetch http://127.0.0.1:1/x.iso --into .".to_owned(),
        "drives --tray nowhere".to_owned(),
    ];
    for words in asked {
        let output = bench.command(&format!("{words} --json")).output().unwrap();
        hold(&format!("{words} --json").split_whitespace().collect::<Vec<_>>(), &output.stdout);
        // One document and no more, or this fails.
        let document: serde_json::Value = serde_json::from_slice(&output.stdout)
            .unwrap_or_else(|error| panic!("{words}: {error}\n{}", bench.tell(&output)));
        let fault = &document["fault"];
        assert!(!output.status.success() && document["result"].is_string(), "{words}: {document}");
        assert!(
            ["id", "text", "next"].iter().all(|key| fault[key].as_str().is_some_and(|text| !text.is_empty())),
            "{words}: {document}"
        );
        assert!(document["ok"] != true, "{words}: {document}");
        // What the guard or a checksum has refused is on record, with the reason; what never came to that is not.
        let Some(job) = document["job"].as_str() else { continue };
        let record = bench.json(&format!("ledger show {job}"));
        assert_eq!((&record["result"], &record["drives"][0]["fault"]), (&"refused".into(), &fault["text"]), "{words}");
    }
    assert!(!bench.json("ledger").as_array().unwrap().is_empty());
    assert!(!bench.was_touched("a"));
}
