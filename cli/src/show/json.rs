//! Results for programs. The keys are a promise: fields are added, never renamed.

use std::path::Path;

use pyrotyp_core::Finding;
use pyrotyp_core::digest::{FileList, Report};
use pyrotyp_core::drive::{Bus, Drive, Role};
use pyrotyp_core::image::{Boot, Container, Inspection, Kind, Verdict, Whole};
use pyrotyp_core::job::{Comparison, Difference, JobResult};
use pyrotyp_core::ledger::Record;
use serde::Serialize;

fn document(value: &impl Serialize) -> String {
    // These values hold nothing that JSON can't: no maps with odd keys, no failing writer.
    let mut text = serde_json::to_string_pretty(value).unwrap_or_default();
    text.push('\n');
    text
}

#[derive(Serialize)]
struct ImageDoc<'a> {
    file: String,
    bytes: u64,
    kind: Kind,
    container: &'a Option<Container>,
    label: &'a Option<String>,
    name: &'a Option<String>,
    created: &'a Option<String>,
    whole: Whole,
    declared_bytes: Option<u64>,
    verdict: Verdict,
    findings: &'a [Finding],
    boots: &'a [Boot],
    needs_bytes: u64,
}

/// The document of `inspect`.
pub fn inspect(seen: &[(&Path, Inspection)]) -> String {
    let docs = seen.iter().map(|(path, inspection)| ImageDoc {
        file: path.display().to_string(),
        bytes: inspection.bytes,
        kind: inspection.kind,
        container: &inspection.container,
        label: &inspection.label,
        name: &inspection.name,
        created: &inspection.created,
        whole: inspection.whole,
        declared_bytes: inspection.declared_bytes,
        verdict: inspection.verdict,
        findings: &inspection.findings,
        boots: &inspection.boots,
        needs_bytes: inspection.needs_bytes,
    });
    document(&docs.collect::<Vec<_>>())
}

#[derive(Serialize)]
struct SumDoc {
    algorithm: &'static str,
    hex: String,
    expected: Option<String>,
    source: Option<String>,
    matches: Option<bool>,
}

#[derive(Serialize)]
struct InsideDoc<'a> {
    source: &'a str,
    files: usize,
    damaged: &'a [String],
    missing: &'a [String],
    ok: bool,
}

#[derive(Serialize)]
struct CheckDoc<'a> {
    file: String,
    sums: Vec<SumDoc>,
    unlisted_in: Vec<String>,
    signature: Option<()>,
    inside: Vec<InsideDoc<'a>>,
    proven: bool,
    ok: bool,
}

/// The document of `check`.
pub fn check(path: &Path, findings: &Report) -> String {
    let mut sums: Vec<SumDoc> = Vec::new();
    for sum in &findings.sums {
        let mut compared = findings.checked.iter().filter(|checked| checked.found == *sum).peekable();
        if compared.peek().is_none() {
            let (algorithm, hex) = (sum.algorithm.name(), sum.hex.clone());
            sums.push(SumDoc { algorithm, hex, expected: None, source: None, matches: None });
        }
        sums.extend(compared.map(|checked| SumDoc {
            algorithm: sum.algorithm.name(),
            hex: sum.hex.clone(),
            expected: Some(checked.expected.sum.hex.clone()),
            source: Some(checked.expected.source.clone()),
            matches: Some(checked.matches()),
        }));
    }
    document(&CheckDoc {
        file: path.display().to_string(),
        sums,
        unlisted_in: findings.unlisted.iter().map(|list| list.display().to_string()).collect(),
        signature: None,
        inside: findings.inside.iter().map(inside).collect(),
        proven: findings.ok() && !findings.checked.is_empty(),
        ok: findings.ok(),
    })
}

fn inside(list: &FileList) -> InsideDoc<'_> {
    let FileList { source, files, damaged, missing } = list;
    InsideDoc { source, files: *files, damaged, missing, ok: list.ok() }
}

#[derive(Serialize)]
struct VolumeDoc<'a> {
    #[serde(skip_serializing_if = "Option::is_none")]
    number: Option<u32>,
    bytes: u64,
    filesystem: &'a Option<String>,
    label: &'a Option<String>,
    mounted_at: &'a Option<String>,
}

impl<'a> VolumeDoc<'a> {
    fn of(number: Option<u32>, volume: &'a pyrotyp_core::drive::Volume) -> Self {
        Self {
            number,
            bytes: volume.bytes,
            filesystem: &volume.filesystem,
            label: &volume.label,
            mounted_at: &volume.mounted_at,
        }
    }
}

#[derive(Serialize)]
struct DriveDoc<'a> {
    tag: String,
    path: &'a str,
    links: &'a [String],
    vendor: &'a Option<String>,
    model: &'a Option<String>,
    serial: &'a Option<String>,
    bytes: u64,
    sector_bytes: u32,
    bus: Bus,
    link_mbps: Option<u32>,
    removable: bool,
    role: Role,
    findings: &'a [Finding],
    partitions: Vec<VolumeDoc<'a>>,
    whole: Option<VolumeDoc<'a>>,
}

/// The document of `drives`.
pub fn drives(shown: &[(Drive, Vec<Finding>)]) -> String {
    let docs = shown.iter().map(|(drive, findings)| {
        let partitions = drive.partitions.iter().map(|p| VolumeDoc::of(Some(p.number), &p.volume));
        DriveDoc {
            tag: drive.tag.to_string(),
            path: &drive.path,
            links: &drive.links,
            vendor: &drive.vendor,
            model: &drive.model,
            serial: &drive.serial,
            bytes: drive.bytes,
            sector_bytes: drive.sector_bytes,
            bus: drive.bus,
            link_mbps: drive.link_mbps,
            removable: drive.removable,
            role: drive.role(),
            findings,
            partitions: partitions.collect(),
            whole: drive.whole.as_ref().map(|volume| VolumeDoc::of(None, volume)),
        }
    });
    document(&docs.collect::<Vec<_>>())
}

/// The document of `write`.
pub fn write(record: &Record) -> String {
    document(record)
}

#[derive(Serialize)]
struct CompareDoc<'a> {
    result: JobResult,
    bytes: u64,
    differences: &'a [Difference],
    more_differences: u64,
}

/// The document of `compare`.
pub fn compare(compared: &Comparison) -> String {
    document(&CompareDoc {
        result: compared.result,
        bytes: compared.bytes,
        differences: &compared.differences,
        more_differences: compared.more_differences,
    })
}
