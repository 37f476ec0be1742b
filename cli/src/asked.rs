//! What was typed: options and arguments, before anything is looked up on this machine.

use std::path::PathBuf;

use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{ArgAction, Args, Parser, Subcommand, ValueEnum};
use jiff::civil::Date;
use pyrotyp_core::FindingId;
use pyrotyp_core::bytes::bytes_in_words;
use pyrotyp_core::compose::{TableForm, VolumeKind};
use pyrotyp_core::drive::Tag;
use pyrotyp_core::guard::{IMAGE_RULES, RULES};
use pyrotyp_core::hash::Sum;
use pyrotyp_core::record::JobResult;

use serde::Deserialize;

use crate::near::nearest;

/// What the help ends with.
fn after_help() -> String {
    let statuses = "\
Exit status: 0 done; 1 unexpected fault; 2 usage; 3 the image is not fit; 4 checksum or signature does not match;
  5 refused by the guard or not confirmed; 6 the drive failed; 7 read-back differs; 8 stopped before the end";
    let demo = if cfg!(feature = "demo") { "\n\nTry it without any drive: pyrotyp demo" } else { "" };
    format!("{statuses}{demo}")
}

/// Write installer images to USB drives, and prove what was written
#[derive(Debug, Parser)]
#[command(name = "pyrotyp", version, max_term_width = 100)]
#[command(after_help = after_help())]
pub(crate) struct Asked {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
    /// Options of every command.
    #[command(flatten)]
    pub common: Common,
}

/// Options of every command.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct Common {
    /// Give the result as one JSON document on standard output
    #[arg(long, global = true)]
    pub json: bool,
    /// Use the simulated drives of this folder in place of the machine's own
    #[arg(long, global = true, value_name = "DIR")]
    pub tray: Option<PathBuf>,
    /// Keep job records below this folder [default: ~/.local/state/pyrotyp]
    #[arg(long, global = true, value_name = "DIR")]
    pub state: Option<PathBuf>,
    /// When to use colour [default: auto, or as in the settings]
    #[arg(long, global = true, value_name = "WHEN")]
    pub color: Option<When>,
    /// No progress, no advice: results and errors only
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Say more
    #[arg(short = 'v', long = "verbose", global = true, action = ArgAction::SetTrue)]
    pub verbose: bool,
    /// Ring when it is over
    #[arg(long, global = true, value_name = "yes|no", num_args = 0..=1, require_equals = true, default_missing_value = "yes", value_parser = yes_or_no())]
    pub bell: Option<bool>,
    /// Write what is asked of the system into this file, as lines of JSON; with -v, each piece that is read and written too
    #[arg(long, global = true, value_name = "FILE")]
    pub log: Option<PathBuf>,
}

/// Says of what may be settled for good whether it is wanted this time.
fn yes_or_no() -> impl TypedValueParser<Value = bool> {
    PossibleValuesParser::new(["yes", "no"]).map(|word| word == "yes")
}

/// For whom the result is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum OutputFor {
    /// Text and tables.
    People,
    /// JSON.
    Programs,
}

impl Common {
    /// For whom the result is.
    pub(crate) fn output_for(&self) -> OutputFor {
        if self.json { OutputFor::Programs } else { OutputFor::People }
    }
}

impl Command {
    /// Whether other machines are asked for anything.
    pub(crate) fn uses_network(&self) -> bool {
        match self {
            Self::Fetch(_) => true,
            // It plays a server, and fetches from it.
            #[cfg(feature = "demo")]
            Self::Demo { .. } => true,
            _ => false,
        }
    }

    /// Whether it looks for drives without opening one for long.
    pub(crate) fn lists_drives(&self) -> bool {
        matches!(self, Self::Drives { .. } | Self::Station(_))
    }

    /// Whether what is on a drive is what is asked for.
    pub(crate) fn reads_drives(&self) -> bool {
        match self {
            Self::Contents { .. } | Self::Compare { .. } | Self::Save(_) | Self::Rehearse(_) => true,
            Self::Gauge(gauge) => gauge.read,
            _ => false,
        }
    }

    /// Whether anything is kept of what it does.
    pub(crate) fn keeps_records(&self) -> bool {
        match self {
            Self::Inspect { .. }
            | Self::Drives { .. }
            | Self::Contents { .. }
            | Self::Settings
            | Self::Manual { .. } => false,
            // It has a bench of its own.
            #[cfg(feature = "demo")]
            Self::Demo { .. } => false,
            _ => true,
        }
    }

    /// Whether it may run programs of the system, or put files aside for a moment.
    pub(crate) fn needs_scratch(&self) -> bool {
        match self {
            Self::Write(_) | Self::Unpack(_) | Self::Reclaim(_) | Self::Rehearse(_) | Self::Station(_) => true,
            Self::Fetch(fetch) => fetch.straight_to.is_some() || fetch.hand_over.is_some(),
            #[cfg(feature = "demo")]
            Self::Demo { .. } => true,
            _ => false,
        }
    }

    /// Whether a drive may be opened by it while a person waits at the terminal. A station draws on that all the while.
    pub(crate) fn opens_drives(&self) -> bool {
        match self {
            Self::Contents { .. }
            | Self::Write(_)
            | Self::Compare { .. }
            | Self::Unpack(_)
            | Self::Reclaim(_)
            | Self::Gauge(_)
            | Self::Save(_)
            | Self::Rehearse(_) => true,
            Self::Fetch(fetch) => fetch.straight_to.is_some(),
            _ => false,
        }
    }
}

/// When to use colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum When {
    /// At a terminal.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

impl When {
    /// In a word.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Auto => "auto",
            Self::Always => "always",
            Self::Never => "never",
        }
    }
}

/// What to do.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Tell what a file is, whether it is whole, and which PCs start from a stick made of it
    Inspect {
        /// Image files
        #[arg(required = true, value_name = "IMAGE")]
        images: Vec<PathBuf>,
    },
    /// Compare an image with its published checksums, their signature, and what it carries inside
    Check {
        /// Image file
        image: PathBuf,
        /// Checksums to compare with
        #[command(flatten)]
        against: Against,
    },
    /// List the attached drives with their tags
    Drives {
        /// Show those as well that can't be chosen, and loop devices
        #[arg(long)]
        all: bool,
        /// Go on telling what arrives and what leaves, until Ctrl-C; with --json, a line each
        #[arg(long)]
        watch: bool,
        /// Read from this drive in a rhythm, so that its light shows which one it is; nothing is written
        #[arg(long, value_name = "DRIVE", conflicts_with_all = ["all", "watch", "explain"])]
        blink: Option<String>,
        /// List everything that can speak against a drive or an image, and what each finding means
        #[arg(long, conflicts_with_all = ["all", "watch"])]
        explain: bool,
    },
    /// Show what is on a drive, and so what writing to it would destroy
    Contents {
        /// The drive: its tag, a stable link, a kernel name, or `arriving` for the next one plugged in
        drive: String,
    },
    /// Write an image to a drive, read it back, and only then make it startable
    Write(Write),
    /// Lay an image's files out on a drive, so that UEFI starts them: for images that can't go onto a drive as they are
    Unpack(Unpack),
    /// Compare a drive with an image, or with what was written to it, at any later time
    Compare {
        /// The drive: its tag, a stable link or a kernel name
        drive: String,
        /// Image file; without one, the drive is compared with what this bench's records keep of what was written
        image: Option<PathBuf>,
    },
    /// Make a drive plain storage again: one empty volume, and no trace of what was there
    Reclaim(Reclaim),
    /// Find out whether a drive can be trusted: its true size, where it fails, how fast it is. A quick look leaves it as it was
    Gauge(Gauge),
    /// Save a drive into a file, as far as its tables and volumes reach; it stays as it is
    Save(Save),
    /// Start an image, or what is on a drive, in an emulated PC and see what comes up: nothing is written, and no PC is restarted
    Rehearse(Rehearse),
    /// Make stick after stick, several at once, by a plan: whatever is plugged in and qualifies is written, read back and tallied
    Station(StickStation),
    /// Get an image over the network, check it, and put it on the shelf
    Fetch(Fetch),
    /// List the images of this bench; add, check or remove some
    Shelf {
        /// What to do with them
        #[command(subcommand)]
        command: Option<ShelfCommand>,
    },
    /// List what was done, the newest first; show one job, or one stick's history
    Ledger(Ledger),
    /// Show what holds where nobody asks otherwise, and where it came from
    Settings,
    /// Write the man pages, and completions for bash, zsh and fish, into a folder
    Manual {
        /// The folder, as it is to lie below /usr/local/share or ~/.local/share
        #[arg(long, value_name = "DIR")]
        into: PathBuf,
    },
    /// Show the whole job on made-up images and simulated drives; touches nothing else
    #[cfg(feature = "demo")]
    Demo {
        /// Make the bench in this new folder and keep it, to try commands on it
        #[arg(long, value_name = "DIR")]
        keep: Option<PathBuf>,
    },
}

/// What the ledger is asked.
#[derive(Debug, Args)]
pub(crate) struct Ledger {
    /// Which jobs are listed
    #[command(flatten)]
    pub filter: LedgerFilter,
    /// What else is asked
    #[command(subcommand)]
    pub command: Option<LedgerCommand>,
}

/// Which jobs are meant.
#[derive(Clone, Debug, Args)]
pub(crate) struct LedgerFilter {
    /// Words of the image's name, title, label or SHA-256
    #[arg(value_name = "WORD")]
    pub words: Vec<String>,
    /// Jobs on the drive with this tag
    #[arg(long, value_name = "TAG")]
    pub drive: Option<Tag>,
    /// Jobs with an image whose name, title, label or SHA-256 holds this
    #[arg(long, value_name = "NAME")]
    pub image: Option<String>,
    /// Jobs since this day, YYYY-MM-DD
    #[arg(long, value_name = "DATE")]
    pub since: Option<Date>,
    /// Jobs that ended like this
    #[arg(long, value_name = "RESULT", value_parser = PossibleValuesParser::new(JobResult::ALL.map(JobResult::word)).try_map(result))]
    pub result: Option<JobResult>,
    /// So many of them at most; 20 where they are listed, else all
    #[arg(long, value_name = "NUMBER")]
    pub most: Option<usize>,
}

/// What else the ledger is asked.
#[derive(Debug, Subcommand)]
pub(crate) enum LedgerCommand {
    /// Show all that is on record of one job
    Show {
        /// Its name, the beginning or end of it, or `last`
        job: String,
    },
    /// Show what was on a stick when, how fast it was, and whether it gets slower
    Drive {
        /// The stick's tag; it need not be attached
        tag: Tag,
    },
    /// Make a page of a job, to print and hand over with the stick
    Report {
        /// Its name, the beginning or end of it, or `last`
        job: String,
        /// The page: a new file
        #[arg(long, value_name = "FILE.html")]
        into: PathBuf,
    },
    /// Make labels for the sleeves of the sticks that a job made, 50 by 25 mm
    Label {
        /// Its name, the beginning or end of it, or `last`
        job: String,
        /// The label: a new file that ends in .svg or .png; of several drives, each has its tag put before that
        #[arg(long, value_name = "FILE.svg|FILE.png")]
        into: PathBuf,
    },
    /// Give the records to another program
    Export {
        /// As which kind of table
        #[arg(long = "as", value_name = "KIND", default_value = "csv")]
        table: Table,
        /// Which jobs
        #[command(flatten)]
        filter: LedgerFilter,
    },
}

fn result(word: String) -> Result<JobResult, &'static str> {
    JobResult::ALL.into_iter().find(|result| result.word() == word).ok_or("no job ends like this")
}

/// A kind of table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Table {
    /// Comma-separated values, a line for each drive.
    Csv,
    /// The records themselves.
    Json,
}

/// What `write` is asked.
#[derive(Clone, Debug, Args)]
pub(crate) struct Write {
    /// Image file, `-` for standard input, which needs --sum, or the drive that is to be copied; at a terminal, images are offered where none is named
    pub image: Option<PathBuf>,
    /// The drive: its tag, a stable link, a kernel name, or `arriving` for the next one plugged in; again for each further one.
    /// At a terminal, drives are offered where none is named
    #[arg(long, value_name = "DRIVE")]
    pub to: Vec<String>,
    /// Save what is on the drive into this file before it is erased, packed if its name ends in .zst
    #[arg(long, value_name = "FILE")]
    pub save_first: Option<PathBuf>,
    /// Make the room behind the image a partition with this label: all of it, or SIZE such as 4GB; as fat32, exfat or ext4 [default: fat32].
    /// The word `settings` as label takes what the catalogue says that the system keeps its settings in. May be given twice
    #[arg(long, value_name = "LABEL[:SIZE[:FS]]", value_parser = spare)]
    pub spare: Vec<AskedSpare>,
    /// Checksums to compare with
    #[command(flatten)]
    pub against: Against,
    /// How it is written
    #[command(flatten)]
    pub job: Job,
}

/// A partition behind the image, as it was typed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct AskedSpare {
    /// What it is to be called.
    pub label: String,
    /// Its length; without one it takes what is left.
    pub bytes: Option<u64>,
    /// What volume.
    pub kind: Option<VolumeKind>,
}

fn spare(text: &str) -> Result<AskedSpare, String> {
    let mut parts = text.split(':').map(str::trim);
    let label = parts.next().unwrap_or_default().to_owned();
    let bytes = match parts.next().filter(|size| !size.is_empty()) {
        Some(size) => {
            let read = bytes_in_words(size).filter(|bytes| *bytes > 0);
            Some(read.ok_or_else(|| format!("`{size}` is no size: write it like 4GB or 512MiB"))?)
        }
        None => None,
    };
    let kind = parts.next().map(|kind| volume_kind(kind.to_owned())).transpose()?;
    match parts.next() {
        _ if label.is_empty() => Err("the partition needs a label: LABEL, LABEL:SIZE or LABEL:SIZE:FS".to_owned()),
        Some(_) => Err("it is LABEL, LABEL:SIZE or LABEL:SIZE:FS, and a label can't hold a colon".to_owned()),
        None => Ok(AskedSpare { label, bytes, kind }),
    }
}

/// What `unpack` is asked.
#[derive(Clone, Debug, Args)]
pub(crate) struct Unpack {
    /// Image file
    pub image: PathBuf,
    /// The drive: its tag, a stable link, a kernel name, or `arriving` for the next one plugged in; again for each further one
    #[arg(long, value_name = "DRIVE", required = true)]
    pub to: Vec<String>,
    /// Which table of partitions [default: mbr, gpt where that does not count far enough]
    #[arg(long, value_name = "TABLE", value_parser = PossibleValuesParser::new(TableForm::ALL.map(TableForm::word)).try_map(table_form))]
    pub table: Option<TableForm>,
    /// What the volume is called [default: as the image's]
    #[arg(long, value_name = "NAME")]
    pub label: Option<String>,
    /// Checksums to compare with
    #[command(flatten)]
    pub against: Against,
    /// How it is written
    #[command(flatten)]
    pub job: Job,
}

/// How an image is written.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct Job {
    /// Go on in spite of this finding; may be given again
    #[arg(long, value_name = "ID", value_parser = finding_id)]
    pub accept: Vec<FindingId>,
    /// Read first, and write only what differs: to refresh or to mend a stick
    #[arg(long)]
    pub only_changed: bool,
    /// Go on with a job that was stopped or failed, from where the drive last confirmed what it took
    #[arg(long)]
    pub resume: bool,
    /// Do not read the drive back: faster, and nothing is proven
    #[arg(long)]
    pub skip_readback: bool,
    /// Eject the drive at the end
    #[arg(long, value_name = "yes|no", num_args = 0..=1, require_equals = true, default_missing_value = "yes", value_parser = yes_or_no())]
    pub eject: Option<bool>,
    /// Ask nothing: the drive must then be named by its tag
    #[arg(long)]
    pub unattended: bool,
    /// Bytes of a drive that are used at most; `reclaim` is asked for it
    #[arg(skip)]
    pub limit: Option<u64>,
}

/// What `reclaim` is asked.
#[derive(Clone, Debug, Args)]
pub(crate) struct Reclaim {
    /// The drive: its tag, a stable link, a kernel name, or `arriving` for the next one plugged in
    pub drive: String,
    /// Which kind of volume [default: fat32 up to 32 GB, exfat above]
    #[arg(long = "as", value_name = "KIND", value_parser = PossibleValuesParser::new(VolumeKind::ALL.map(VolumeKind::word)).try_map(volume_kind))]
    pub kind: Option<VolumeKind>,
    /// Which table of partitions [default: mbr, gpt where that does not count far enough]
    #[arg(long, value_name = "TABLE", value_parser = PossibleValuesParser::new(TableForm::ALL.map(TableForm::word)).try_map(table_form))]
    pub table: Option<TableForm>,
    /// What the volume is called [default: as before, or the drive's model]
    #[arg(long, value_name = "NAME")]
    pub label: Option<String>,
    /// Use the drive's first so many bytes only: for one that has less room than it claims
    #[arg(long, value_name = "BYTES", value_parser = clap::value_parser!(u64).range(1..))]
    pub limit: Option<u64>,
    /// How it goes onto the drive
    #[command(flatten)]
    pub consent: Consent,
}

/// Who says yes to what, and what becomes of the drive.
#[derive(Clone, Debug, Args)]
pub(crate) struct Consent {
    /// Go on in spite of this finding; may be given again
    #[arg(long, value_name = "ID", value_parser = finding_id)]
    pub accept: Vec<FindingId>,
    /// Eject the drive at the end
    #[arg(long, value_name = "yes|no", num_args = 0..=1, require_equals = true, default_missing_value = "yes", value_parser = yes_or_no())]
    pub eject: Option<bool>,
    /// Ask nothing: the drive must then be named by its tag
    #[arg(long)]
    pub unattended: bool,
}

impl Consent {
    /// A job that is done like this.
    pub(crate) fn job(&self) -> Job {
        let Self { accept, eject, unattended } = self.clone();
        Job { accept, eject, unattended, ..Job::default() }
    }
}

/// What `gauge` is asked.
#[derive(Clone, Debug, Args)]
pub(crate) struct Gauge {
    /// The drive: its tag, a stable link, a kernel name, or `arriving` for the next one plugged in
    pub drive: String,
    /// Read all of it instead of a quick test: nothing is written
    #[arg(long, conflicts_with = "whole")]
    pub read: bool,
    /// Only restore the original bytes that an interrupted quick test replaced
    #[arg(long, conflicts_with_all = ["read", "whole"])]
    pub restore: bool,
    /// Fill all of it with a test pattern and read it back: everything on it is lost
    #[arg(long)]
    pub whole: bool,
    /// How it is done
    #[command(flatten)]
    pub consent: Consent,
}

/// What `save` is asked.
#[derive(Clone, Debug, Args)]
pub(crate) struct Save {
    /// The drive: its tag, a stable link, a kernel name, or `arriving` for the next one plugged in
    pub drive: String,
    /// The file; packed if its name ends in .zst. A checksum goes beside it
    pub file: PathBuf,
    /// All of the drive, and not only what its tables and volumes claim
    #[arg(long)]
    pub whole: bool,
    /// Put zeros where the drive can't be read
    #[arg(long)]
    pub fill_unreadable: bool,
}

/// What `station` is asked.
#[derive(Clone, Debug, Args)]
pub(crate) struct StickStation {
    /// The plan: a file in TOML
    pub plan: PathBuf,
    /// The number of sticks of the plan, in place of typing it: for where there is no terminal
    #[arg(long, value_name = "NUMBER")]
    pub sticks: Option<u64>,
    /// Count anew: those of this plan that were made before do not count
    #[arg(long)]
    pub anew: bool,
}

/// What `rehearse` is asked.
#[derive(Clone, Debug, Args)]
pub(crate) struct Rehearse {
    /// Image file, or the drive: its tag, a stable link or a kernel name
    #[arg(value_name = "IMAGE|DRIVE")]
    pub what: PathBuf,
    /// By this firmware only [default: by both, one after the other]
    #[arg(long, value_name = "FIRMWARE")]
    pub firmware: Option<TrialFirmware>,
    /// Have UEFI start signed programs only, as most PCs do
    #[arg(long)]
    pub secure_boot: bool,
    /// How long each start is watched at most
    #[arg(long, value_name = "SECONDS", default_value_t = 90, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub wait: u64,
}

/// Firmware by which something is tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum TrialFirmware {
    /// BIOS, or UEFI that imitates it.
    Bios,
    /// UEFI.
    Uefi,
}

fn volume_kind(word: String) -> Result<VolumeKind, &'static str> {
    VolumeKind::ALL.into_iter().find(|kind| kind.word() == word).ok_or("no volume of this kind can be made")
}

fn table_form(word: String) -> Result<TableForm, &'static str> {
    TableForm::ALL.into_iter().find(|form| form.word() == word).ok_or("no such table can be made")
}

/// What `fetch` is asked.
#[derive(Clone, Debug, Args)]
pub(crate) struct Fetch {
    /// An http or https address, a Metalink file or its address, or words for an image in the catalogue
    #[arg(required = true, value_name = "IMAGE")]
    pub what: Vec<String>,
    /// Put it into this folder, and not on the shelf
    #[arg(long, value_name = "DIR")]
    pub into: Option<PathBuf>,
    /// A catalogue: a file, or an https address; remembered for the next time
    #[arg(long, value_name = "FILE|ADDRESS")]
    pub catalogue: Option<String>,
    /// The one that is meant, where a Metalink file names several images
    #[arg(long, value_name = "NAME")]
    pub only: Option<String>,
    /// Take mirrors in this country first, such as de
    #[arg(long, value_name = "COUNTRY")]
    pub near: Option<String>,
    /// How long a server may stay silent
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub wait: u64,
    /// Checksums to compare with
    #[command(flatten)]
    pub against: Against,
    /// Write it to this drive as it comes, and keep no file; sealed only when its checksum is right
    #[arg(long, value_name = "DRIVE", conflicts_with = "into")]
    pub straight_to: Option<String>,
    /// How it is written
    #[command(flatten, next_help_heading = "With --straight-to")]
    pub job: Job,
    /// Give the image on standard output, from this byte on, after a line that describes it: what
    /// --straight-to runs
    #[arg(long, hide = true, value_name = "BYTE", conflicts_with_all = ["into", "straight_to"])]
    pub hand_over: Option<u64>,
}

/// What to do with the shelf.
#[derive(Clone, Debug, Subcommand)]
pub(crate) enum ShelfCommand {
    /// Put image files on it, with the lists and signatures beside them
    Add {
        /// Image files
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
        /// Take them away from where they are
        #[arg(long = "move")]
        moves: bool,
    },
    /// Read images again and compare them with all that is known of them
    Verify {
        /// Names on the shelf [default: all of them]
        #[arg(value_name = "NAME")]
        names: Vec<String>,
    },
    /// Remove images, with the lists and signatures that lie there for them
    Remove {
        /// Names on the shelf
        #[arg(required = true, value_name = "NAME")]
        names: Vec<String>,
    },
    /// Show which images nobody has used for long; with --go, remove them
    Prune {
        /// Those that were put there, checked and written longer ago than this, and that no stick holds
        #[arg(long, value_name = "DAYS", default_value_t = 180)]
        older: u32,
        /// Do it
        #[arg(long)]
        go: bool,
    },
}

/// Checksums to compare with.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct Against {
    /// A published checksum, such as sha256:9f86…; may be given again
    #[arg(long, value_name = "[ALGO:]HEX")]
    pub sum: Vec<Sum>,
    /// A list of checksums, such as SHA256SUMS, or a .torrent, in place of those found beside the image
    #[arg(long, value_name = "FILE")]
    pub sums: Option<PathBuf>,
    /// A signature of the list or the image, in place of those found beside them
    #[arg(long, value_name = "FILE")]
    pub signature: Option<PathBuf>,
    /// The publisher's public key (OpenPGP, minisign or signify); remembered once it has been used
    #[arg(long, value_name = "FILE")]
    pub key: Vec<PathBuf>,
}

fn finding_id(text: &str) -> Result<FindingId, String> {
    let ids = || RULES.iter().chain(&IMAGE_RULES).map(|rule| rule.id);
    if let Some(id) = text.parse().ok().filter(|id| ids().any(|one| one == *id)) {
        Ok(id)
    } else {
        let ids = ids().map(FindingId::word);
        let meant = nearest(text, ids).map(|id| format!(", did you mean {id}?")).unwrap_or_default();
        Err(format!("no finding has this id{meant}; `pyrotyp drives --explain` lists them all"))
    }
}
