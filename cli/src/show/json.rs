//! Results for programs. The keys are a promise: fields are added, never renamed.

use std::borrow::Cow;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pyrotyp_core::compose::{Storage, TableForm, VolumeKind};
use pyrotyp_core::contents::{Contents, Listed, TableKind};
use pyrotyp_core::drive::{Bus, Drive, Port, Role, Surface, Volume};
use pyrotyp_core::guard::{Judged, Rule};
use pyrotyp_core::image::{Architecture, Boot, Container, Inspection, Kind, Verdict, Way, Whole};
use pyrotyp_core::job::Comparison;
use pyrotyp_core::job::save::Saved;
use pyrotyp_core::ledger::LastJob;
use pyrotyp_core::published::signature::Scheme;
use pyrotyp_core::published::{EmbeddedReport, FileList, PiecesReport, Proof, Report, Unusable, Vouched};
use pyrotyp_core::record::{
    Area, Conclusion, Difference, DriveRecord, Gauged, ImageRecord, JobResult, Record, SparePartition, SpeedAt,
    TrialStart, Trust,
};
use pyrotyp_core::station::Try;
use pyrotyp_core::volume::Item as Entry;
use pyrotyp_core::{Finding, FindingId, Level};
use serde::Serialize;
use serde_json::Value;

use super::edge;
use super::settings::SettingRow;
use super::shelved::{Row, Verified};
use super::unpacked::UnpackedFiles;
use crate::exit::Failure;

fn document(value: &impl Serialize) -> Value {
    // These values hold nothing that JSON can't: no maps with odd keys.
    serde_json::to_value(value).unwrap_or_default()
}

/// A document as it is printed.
pub(crate) fn text(document: &Value) -> String {
    edge::json(&format!("{document:#}\n"))
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ImageDoc<'a> {
    file: String,
    bytes: u64,
    kind: Kind,
    container: &'a Option<Container>,
    label: &'a Option<String>,
    name: &'a Option<String>,
    system: &'a Option<String>,
    version: &'a Option<String>,
    edition: &'a Option<String>,
    architecture: Option<Architecture>,
    created: &'a Option<String>,
    whole: Whole,
    declared_bytes: Option<u64>,
    verdict: Verdict,
    findings: &'a [Finding],
    boots: &'a [Boot],
    needs_bytes: u64,
    /// How it is brought to a stick so that it starts a PC.
    way: Way,
}

/// The document of `inspect`.
pub(crate) fn inspect(seen: &[(&Path, Inspection)]) -> Value {
    let docs = seen.iter().map(|(path, inspection)| ImageDoc {
        file: path.to_string_lossy().into_owned(),
        bytes: inspection.bytes,
        kind: inspection.kind,
        container: &inspection.container,
        label: &inspection.label,
        name: &inspection.naming.name,
        system: &inspection.naming.system,
        version: &inspection.naming.version,
        edition: &inspection.naming.edition,
        architecture: inspection.naming.architecture,
        created: &inspection.optical.created,
        whole: inspection.span.whole,
        declared_bytes: inspection.span.declared_bytes,
        verdict: inspection.verdict,
        findings: &inspection.findings,
        boots: &inspection.boots,
        needs_bytes: inspection.span.needs_bytes,
        way: inspection.way(),
    });
    document(&docs.collect::<Vec<_>>())
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SumDoc {
    algorithm: &'static str,
    hex: String,
    expected: Option<String>,
    source: Option<String>,
    matches: Option<bool>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(untagged)]
enum InsideDoc<'a> {
    List {
        kind: &'static str,
        source: &'a str,
        files: usize,
        damaged: &'a [String],
        missing: &'a [String],
        ok: bool,
    },
    Sum {
        kind: &'static str,
        bytes: u64,
        expected: &'a str,
        found: &'a str,
        damaged_between: Option<(u64, u64)>,
        ok: bool,
    },
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct PiecesDoc<'a> {
    source: &'a str,
    pieces: u64,
    damaged: Vec<RangeDoc>,
    unproven_bytes: u64,
    ok: bool,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct RangeDoc {
    offset: u64,
    bytes: u64,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SignatureDoc<'a> {
    file: &'a str,
    signs: &'a str,
    scheme: Option<Scheme>,
    result: &'static str,
    reason: Option<&'static str>,
    text: Option<String>,
    key: Option<String>,
    owner: Option<String>,
    made: Option<String>,
    first_use: bool,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct UnusableDoc<'a> {
    file: String,
    why: &'a str,
}

fn unusable(Unusable { file, why }: &Unusable) -> UnusableDoc<'_> {
    UnusableDoc { file: file.to_string_lossy().into_owned(), why }
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct CheckDoc<'a> {
    file: String,
    sums: Vec<SumDoc>,
    unlisted_in: Vec<String>,
    unusable: Vec<UnusableDoc<'a>>,
    signature: Option<SignatureDoc<'a>>,
    signatures: Vec<SignatureDoc<'a>>,
    missed_key: Option<String>,
    pieces: Vec<PiecesDoc<'a>>,
    inside: Vec<InsideDoc<'a>>,
    proof: &'static str,
    proven: bool,
    ok: bool,
}

/// The document of `check`.
pub(crate) fn check(path: &Path, findings: &Report, unfit: Option<&Failure>) -> Value {
    let all = check_doc(path, findings);
    document(&CheckDoc { ok: all.ok && unfit.is_none(), ..all })
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FetchDoc<'a> {
    /// Its name on the shelf.
    name: Option<&'a str>,
    origin: Option<&'a str>,
    #[serde(flatten)]
    check: CheckDoc<'a>,
}

/// The document of `fetch`.
pub(crate) fn fetched(path: &Path, name: Option<&str>, origin: Option<&str>, findings: &Report) -> Value {
    document(&FetchDoc { name, origin, check: check_doc(path, findings) })
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ContentsDoc<'a> {
    tag: &'a str,
    path: &'a str,
    bytes: u64,
    table: Option<TableKind>,
    surface: Surface,
    image: &'a Option<String>,
    last_job: Option<&'a LastJob>,
    volumes: Vec<ListedDoc<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ListedDoc<'a> {
    number: Option<u32>,
    bytes: u64,
    used_bytes: Option<u64>,
    filesystem: &'a Option<String>,
    label: &'a Option<String>,
    mounted_at: &'a Option<String>,
    surface: Surface,
    items: Option<Vec<ItemDoc<'a>>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ItemDoc<'a> {
    name: &'a str,
    folder: bool,
    bytes: u64,
    /// By the clock of whoever changed it, so without a zone.
    modified: Option<String>,
}

/// The document of `contents`.
pub(crate) fn contents(drive: &Drive, found: &Contents, last_job: Option<&LastJob>) -> Value {
    fn item(item: &Entry) -> ItemDoc<'_> {
        let modified = item.modified.map(|time| time.to_string());
        ItemDoc { name: &item.name, folder: item.is_folder, bytes: item.bytes, modified }
    }
    fn one(listed: &Listed) -> ListedDoc<'_> {
        let Volume { bytes, filesystem, label, mounted_at, .. } = &listed.volume;
        let items = listed.items.as_ref().map(|items| items.iter().map(item).collect());
        let (number, used_bytes, bytes) = (listed.number, listed.used_bytes, *bytes);
        let surface = listed.volume.surface;
        ListedDoc { number, bytes, used_bytes, filesystem, label, mounted_at, surface, items }
    }
    let (tag, path, volumes) = (drive.tag.as_str(), drive.path.as_str(), found.volumes.iter().map(one).collect());
    let Contents { table, image, surface, .. } = found;
    let surface = *surface;
    document(&ContentsDoc { surface, tag, path, bytes: drive.bytes, table: *table, image, last_job, volumes })
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ShelfDoc<'a> {
    name: &'a str,
    file: &'a str,
    bytes: u64,
    system: &'a Option<String>,
    version: &'a Option<String>,
    edition: &'a Option<String>,
    architecture: &'a Option<String>,
    label: &'a Option<String>,
    origin: &'a Option<String>,
    added: &'a Option<String>,
    checked: &'a Option<String>,
    proof: &'a Option<String>,
    damaged: &'a Option<String>,
    used: &'a Option<String>,
    sums: &'a [String],
    on: &'a [String],
    findings: &'a [Finding],
}

/// The document of `shelf`: an array of images.
pub(crate) fn shelf(rows: &[Row]) -> Value {
    fn one(row: &Row) -> ShelfDoc<'_> {
        let Row { item, bytes, on, findings } = row;
        let (name, bytes) = (item.name(), *bytes);
        ShelfDoc {
            name,
            file: &item.file,
            bytes,
            system: &item.system,
            version: &item.version,
            edition: &item.edition,
            architecture: &item.architecture,
            label: &item.label,
            origin: &item.origin,
            added: &item.added,
            checked: &item.checked,
            proof: &item.proof,
            damaged: &item.damaged,
            used: &item.used,
            sums: &item.sums,
            on,
            findings,
        }
    }
    document(&rows.iter().map(one).collect::<Vec<_>>())
}

/// The document of `shelf verify`: an array of those of `check`.
pub(crate) fn verified(all: &[Verified]) -> Value {
    fn doc(one: &Verified) -> CheckDoc<'_> {
        let found = check_doc(Path::new(&one.item.file), &one.report);
        // An image that could not be read is not as it should be either.
        CheckDoc { ok: one.fault.is_none(), ..found }
    }
    document(&all.iter().map(doc).collect::<Vec<_>>())
}

fn check_doc<'a>(path: &Path, findings: &'a Report) -> CheckDoc<'a> {
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
    CheckDoc {
        file: path.to_string_lossy().into_owned(),
        sums,
        unlisted_in: findings.unlisted.iter().map(|list| list.to_string_lossy().into_owned()).collect(),
        unusable: findings.unusable.iter().map(unusable).collect(),
        signature: deciding(&findings.signatures).map(signature),
        signatures: findings.signatures.iter().map(signature).collect(),
        missed_key: findings.missed_key.as_ref().map(|key| key.fingerprint()),
        pieces: findings.pieces.iter().map(pieces).collect(),
        inside: findings.embedded.iter().map(embedded).chain(findings.inside.iter().map(inside)).collect(),
        proof: findings.proof().word(),
        proven: matches!(findings.proof(), Proof::Signed(_) | Proof::Published | Proof::PublishedWeakly),
        ok: findings.ok(),
    }
}

/// The signature that settles the matter: one that refuses, else one that is good.
fn deciding(all: &[Vouched]) -> Option<&Vouched> {
    all.iter().find(|one| one.is_refusal).or_else(|| all.iter().find(|one| one.is_good())).or(all.first())
}

fn signature(vouched: &Vouched) -> SignatureDoc<'_> {
    SignatureDoc {
        file: &vouched.file,
        signs: &vouched.over,
        scheme: vouched.scheme,
        result: match (vouched.is_good(), vouched.is_refusal) {
            (true, _) => "good",
            (false, true) => "refused",
            (false, false) => "unchecked",
        },
        reason: vouched.fault.as_ref().map(|fault| fault.id()),
        text: vouched.fault.as_ref().map(ToString::to_string),
        key: vouched.key.as_ref().map(|key| key.fingerprint()),
        owner: vouched.key.as_ref().and_then(|key| key.owner()),
        made: vouched.made.map(|made| made.to_string()),
        first_use: vouched.is_first_use,
    }
}

fn pieces(report: &PiecesReport) -> PiecesDoc<'_> {
    let range = |(offset, bytes): &(u64, u64)| RangeDoc { offset: *offset, bytes: *bytes };
    PiecesDoc {
        source: &report.source,
        pieces: report.pieces,
        damaged: report.damaged.iter().map(range).collect(),
        unproven_bytes: report.unproven_bytes,
        ok: report.ok(),
    }
}

fn embedded(report: &EmbeddedReport) -> InsideDoc<'_> {
    let EmbeddedReport { bytes, expected, found, damaged } = report;
    InsideDoc::Sum { kind: "sum", bytes: *bytes, expected, found, damaged_between: *damaged, ok: report.ok() }
}

fn inside(list: &FileList) -> InsideDoc<'_> {
    let FileList { source, files, damaged, missing } = list;
    InsideDoc::List { kind: "list", source, files: *files, damaged, missing, ok: list.ok() }
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
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
#[cfg_attr(test, derive(schemars::JsonSchema))]
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
    could_be_faster: bool,
    /// Where it is plugged in, such as `1-2.3`: bus 1, a hub in its socket 2, socket 3 of that.
    #[serde(skip_serializing_if = "Option::is_none")]
    port: Option<&'a Port>,
    removable: bool,
    role: Role,
    findings: &'a [Finding],
    partitions: Vec<VolumeDoc<'a>>,
    whole: Option<VolumeDoc<'a>>,
    /// What is on it where there is neither a partition nor a file system.
    surface: Surface,
}

/// The document of one job.
pub(crate) fn record(record: &Record) -> Value {
    document(record)
}

/// A stick of a station.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct StickDoc<'a> {
    number: u64,
    tag: &'a str,
    port: Option<&'a str>,
    result: Option<JobResult>,
    job: &'a str,
}

/// The document of a stick that `station` has ended with: a line.
pub(crate) fn station(stick: &Try) -> String {
    let Try { number, job, drive, port, result, .. } = stick;
    let stick = StickDoc { number: *number, tag: &drive.tag, port: port.as_deref(), result: *result, job };
    edge::json(&format!("{}\n", document(&stick)))
}

/// The document of `rehearse`.
pub(crate) fn rehearse(starts: &[TrialStart]) -> Value {
    document(&starts)
}

/// The document of several jobs.
pub(crate) fn records(records: &[Record]) -> Value {
    document(&records)
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct HandedOverDoc<'a> {
    job: &'a str,
    files: Vec<String>,
}

/// The document of `ledger report` and `ledger label`.
pub(crate) fn handed_over(record: &Record, files: &[PathBuf]) -> Value {
    let files = files.iter().map(|file| file.to_string_lossy().into_owned()).collect();
    document(&HandedOverDoc { job: &record.job, files })
}

/// The document of `settings`.
pub(crate) fn settings(rows: &[SettingRow]) -> Value {
    document(&rows)
}

/// The document of `drives`.
pub(crate) fn drives(shown: &[Judged]) -> Value {
    document(&shown.iter().map(drive_doc).collect::<Vec<_>>())
}

fn drive_doc(Judged { drive, findings }: &Judged) -> DriveDoc<'_> {
    let partitions = drive.holds.partitions.iter().map(|p| VolumeDoc::of(Some(p.number), &p.volume));
    DriveDoc {
        tag: drive.tag.to_string(),
        path: &drive.path,
        links: &drive.links,
        vendor: &drive.says.vendor,
        model: &drive.says.model,
        serial: &drive.says.serial,
        bytes: drive.bytes,
        sector_bytes: drive.sector_bytes,
        bus: drive.link.bus,
        link_mbps: drive.link.mbps,
        could_be_faster: drive.link.could_be_faster,
        port: drive.link.port.as_ref(),
        removable: drive.says.removable,
        role: drive.role(),
        findings,
        partitions: partitions.collect(),
        whole: drive.holds.whole.as_ref().map(|volume| VolumeDoc::of(None, volume)),
        surface: drive.holds.surface,
    }
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct EventDoc<'a> {
    time: String,
    event: &'a str,
    drive: DriveDoc<'a>,
}

/// One line of `drives --watch`.
pub(crate) fn event(event: &str, judged: &Judged, time: Timestamp) -> String {
    let doc = EventDoc { time: time.to_string(), event, drive: drive_doc(judged) };
    // These values hold nothing that JSON can't.
    edge::json(&serde_json::to_string(&doc).unwrap_or_default()) + "\n"
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct RuleDoc {
    id: FindingId,
    level: Level,
    about: &'static str,
    when: &'static str,
}

/// The document of `drives --explain`.
pub(crate) fn rules(about_drives: &[Rule], about_images: &[Rule]) -> Value {
    let doc = |about| move |rule: &Rule| RuleDoc { id: rule.id, level: rule.level, about, when: rule.when };
    let all = about_drives.iter().map(doc("drive")).chain(about_images.iter().map(doc("image")));
    document(&all.collect::<Vec<_>>())
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FaultDoc<'a> {
    id: &'static str,
    text: &'a str,
    next: Cow<'a, str>,
}

/// What every document of a failure holds; the command's own fields come beside it.
#[cfg(test)]
#[derive(Serialize, schemars::JsonSchema)]
struct FailureDoc<'a> {
    result: Option<Value>,
    fault: FaultDoc<'a>,
    #[serde(skip_serializing_if = "Option::is_none")]
    findings: Option<&'a [Finding]>,
}

/// The document of a command that failed: what it has beside, its result, and the fault.
pub(crate) fn failed(failure: &Failure) -> Value {
    let mut all = match failure.document.as_deref() {
        Some(Value::Object(all)) => all.clone(),
        _ => serde_json::Map::new(),
    };
    let fault = FaultDoc { id: failure.exit.id(), text: &failure.text, next: super::command::as_typed(&failure.next) };
    all.entry("result").or_insert_with(|| document(&failure.exit.result()));
    all.insert("fault".to_owned(), document(&fault));
    if !failure.findings.is_empty() {
        all.insert("findings".to_owned(), document(&failure.findings));
    }
    Value::Object(all)
}

/// The document of `write`; a job that is not on record has no name.
pub(crate) fn write(record: &Record, job: Option<&str>) -> Value {
    let mut all = document(record);
    if let Some(name) = all.get_mut("job") {
        *name = job.into();
    }
    all
}

/// A job on one drive.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct OneDrive<'a> {
    result: JobResult,
    job: &'a str,
    tag: &'a str,
    path: &'a str,
}

impl<'a> OneDrive<'a> {
    fn of(record: &'a Record) -> Self {
        let drive = record.drives.first();
        let (tag, path) = drive.map_or(("", ""), |drive| (drive.drive.tag.as_str(), drive.drive.path.as_str()));
        Self { result: record.result, job: &record.job, tag, path }
    }
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ReclaimDoc<'a> {
    #[serde(flatten)]
    of: OneDrive<'a>,
    table: TableForm,
    filesystem: VolumeKind,
    label: &'a str,
    bytes: u64,
}

/// The document of `reclaim`.
pub(crate) fn reclaim(record: &Record, storage: &Storage) -> Value {
    document(&ReclaimDoc {
        of: OneDrive::of(record),
        table: storage.table,
        filesystem: storage.kind,
        label: &storage.label,
        bytes: storage.drive_bytes,
    })
}

/// Something that did not come along.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LeftOutDoc<'a> {
    path: &'a str,
    why: &'a str,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct UnpackDoc<'a> {
    /// Of the first drive.
    #[serde(flatten)]
    of: OneDrive<'a>,
    image: &'a ImageRecord,
    drives: &'a [DriveRecord],
    filesystem: VolumeKind,
    table: TableForm,
    label: &'a str,
    files: u64,
    bytes: u64,
    boots: &'a [Boot],
    left_out: Vec<LeftOutDoc<'a>>,
}

/// The document of `unpack`.
pub(crate) fn unpack(record: &Record, files: UnpackedFiles<'_>) -> Value {
    let UnpackedFiles { inspection, storage, files, bytes, left_out } = files;
    document(&UnpackDoc {
        of: OneDrive::of(record),
        image: &record.image,
        drives: &record.drives,
        filesystem: storage.kind,
        table: storage.table,
        label: &storage.label,
        files,
        bytes,
        boots: &inspection.boots,
        left_out: left_out.iter().map(|left| LeftOutDoc { path: &left.path, why: &left.why }).collect(),
    })
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct GaugeDoc<'a> {
    #[serde(flatten)]
    of: OneDrive<'a>,
    claimed_bytes: u64,
    true_bytes: Option<u64>,
    verdict: Trust,
    areas: &'a [Area],
    write: &'a [SpeedAt],
    read: &'a [SpeedAt],
}

/// A stretch that could not be read.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct UnreadableDoc {
    offset: u64,
    bytes: u64,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SaveDoc<'a> {
    #[serde(flatten)]
    of: OneDrive<'a>,
    file: String,
    bytes: u64,
    file_bytes: u64,
    sha256: Option<&'a str>,
    unreadable: Vec<UnreadableDoc>,
}

/// The document of `save`.
pub(crate) fn save(record: &Record, saved: &Saved) -> Value {
    let unreadable = |range: &std::ops::Range<u64>| UnreadableDoc {
        offset: range.start,
        bytes: range.end.saturating_sub(range.start),
    };
    document(&SaveDoc {
        of: OneDrive::of(record),
        file: saved.file.to_string_lossy().into_owned(),
        bytes: saved.bytes,
        file_bytes: saved.file_bytes,
        sha256: saved.sha256.as_deref(),
        unreadable: saved.unreadable.iter().map(unreadable).collect(),
    })
}

/// The document of `gauge`.
pub(crate) fn gauge(record: &Record, gauged: Option<&Gauged>) -> Value {
    let drive = record.drives.first();
    document(&GaugeDoc {
        of: OneDrive::of(record),
        claimed_bytes: drive.map_or(0, |drive| drive.drive.bytes),
        true_bytes: gauged.and_then(|gauged| gauged.true_bytes),
        verdict: gauged.map_or(Trust::Unknown, |gauged| gauged.verdict),
        areas: gauged.map_or(&[], |gauged| &gauged.areas),
        write: gauged.map_or(&[], |gauged| &gauged.write),
        read: gauged.map_or(&[], |gauged| &gauged.read),
    })
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct RestoreDoc<'a> {
    tag: &'a str,
    path: &'a str,
    /// Bytes of the drive that hold their original content again.
    restored_bytes: u64,
}

/// The document of `gauge --restore`.
pub(crate) fn restored(drive: &Drive, restored_bytes: u64) -> Value {
    document(&RestoreDoc { tag: drive.tag.as_str(), path: &drive.path, restored_bytes })
}

/// What a drive was compared with.
#[derive(Clone, Copy, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub(crate) enum ComparedWith<'a> {
    /// An image file, as given.
    File(&'a str),
    /// The digests that a job has kept.
    Job(&'a str),
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct CompareDoc<'a> {
    result: JobResult,
    bytes: u64,
    against: ComparedWith<'a>,
    conclusion: Option<Conclusion>,
    /// What is on the drive where that is something else.
    holds: Option<&'a str>,
    read_again: u64,
    differences: &'a [Difference],
    more_differences: u64,
    /// Partitions behind the image, which belong to whoever uses the drive.
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    not_compared: &'a [SparePartition],
}

/// The document of `compare`.
pub(crate) fn compare(
    compared: &Comparison,
    against: ComparedWith<'_>,
    holds: Option<&str>,
    not_compared: &[SparePartition],
) -> Value {
    document(&CompareDoc {
        result: compared.result,
        bytes: compared.bytes,
        against,
        conclusion: compared.conclusion,
        holds,
        read_again: compared.read_again,
        differences: &compared.differences,
        more_differences: compared.more_differences,
        not_compared,
    })
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use schemars::generate::SchemaSettings;
    use schemars::{JsonSchema, Schema};

    use pyrotyp_core::text::Shown;

    use super::*;

    fn schema<T: JsonSchema>() -> Schema {
        SchemaSettings::draft2020_12().for_serialize().into_generator().into_root_schema_for::<T>()
    }

    /// A job that could not be put on record has no name.
    fn written() -> Schema {
        let mut schema = schema::<Record>();
        let job = schema.pointer_mut("/properties/job/type").unwrap();
        *job = serde_json::json!(["string", "null"]);
        schema
    }

    /// What each command prints with `--json`; a failure of any is a `failure`, with what the command has beside it.
    fn all() -> Vec<(&'static str, Schema)> {
        vec![
            ("inspect", schema::<Vec<ImageDoc<'_>>>()),
            ("check", schema::<CheckDoc<'_>>()),
            ("fetch", schema::<FetchDoc<'_>>()),
            ("shelf", schema::<Vec<ShelfDoc<'_>>>()),
            ("shelf-verify", schema::<Vec<CheckDoc<'_>>>()),
            ("drives", schema::<Vec<DriveDoc<'_>>>()),
            ("drives-watch", schema::<EventDoc<'_>>()),
            ("drives-explain", schema::<Vec<RuleDoc>>()),
            ("contents", schema::<ContentsDoc<'_>>()),
            ("write", written()),
            ("reclaim", schema::<ReclaimDoc<'_>>()),
            ("unpack", schema::<UnpackDoc<'_>>()),
            ("gauge", schema::<GaugeDoc<'_>>()),
            ("gauge-restore", schema::<RestoreDoc<'_>>()),
            ("save", schema::<SaveDoc<'_>>()),
            ("station", schema::<StickDoc<'_>>()),
            ("rehearse", schema::<Vec<TrialStart>>()),
            ("compare", schema::<CompareDoc<'_>>()),
            ("ledger", schema::<Vec<Record>>()),
            ("ledger-show", schema::<Record>()),
            ("ledger-files", schema::<HandedOverDoc<'_>>()),
            ("settings", schema::<Vec<SettingRow>>()),
            ("failure", schema::<FailureDoc<'_>>()),
        ]
    }

    /// `PYROTYP_SCHEMAS=write cargo test schemas` writes them anew.
    #[test]
    fn the_schemas_in_the_documentation_are_those_of_the_documents() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/schemas");
        for (name, schema) in all() {
            let file = folder.join(format!("{name}.json"));
            let text = format!("{:#}\n", serde_json::to_value(&schema).unwrap());
            if std::env::var_os("PYROTYP_SCHEMAS").is_some() {
                std::fs::create_dir_all(&folder).unwrap();
                std::fs::write(&file, &text).unwrap();
            }
            assert!(std::fs::read_to_string(&file).unwrap_or_default() == text, "{} is not current", file.shown());
        }
    }
}
