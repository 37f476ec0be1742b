//! Drives with what speaks against them, and commands that may name them.

use pyrotyp_core::Level;
use pyrotyp_core::bytes::human_bytes;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::drive::{Drive, Role};
use pyrotyp_core::guard::Judged;
use pyrotyp_core::text::shell;

use super::attached::platform;
use super::settings::survey;
use crate::asked::Common;
use crate::exit::{Exit, Failure};

/// Whether any command may name it.
pub(crate) fn can_be_chosen(Judged { drive, findings }: &Judged) -> bool {
    drive.role() != Role::Virtual && findings.iter().all(|finding| finding.level != Level::Stop)
}

/// Every drive that is attached, with what speaks against it.
pub(crate) fn judged(platform: &dyn Platform, common: &Common) -> Result<Vec<Judged>, Failure> {
    let known = survey(platform, common)?;
    Ok(platform.drives()?.into_iter().map(|drive| Judged::of(drive, &known)).collect())
}

/// How a command goes on that is to write to this drive, with what must be accepted for it; `None` where no command may, and where that
/// can't be told.
pub(crate) fn onto(platform: &dyn Platform, drive: &Drive, common: &Common) -> Option<String> {
    let known = survey(platform, common).ok()?;
    let Judged { drive, findings } = Judged::of(drive.clone(), &known);
    let accept = findings.iter().filter(|finding| finding.level == Level::Ask);
    let accept: String = accept.map(|finding| format!(" --accept {}", finding.id)).collect();
    let is_free = findings.iter().all(|finding| finding.level != Level::Stop);
    is_free.then(|| format!("--to {}{accept}", shell::word(drive.tag.as_str())))
}

/// No drive was named: those that could be meant, for a `command` that ends before `--to`.
pub(crate) fn which(command: &str, common: &Common) -> Result<Failure, Failure> {
    let judged = judged(&*platform(common)?, common)?;
    let is_free = |row: &&Judged| can_be_chosen(row) && row.findings.iter().all(|finding| finding.level == Level::Note);
    let meant: Vec<&Drive> = judged.iter().filter(is_free).map(|judged| &judged.drive).collect();
    let mut text = "no drive is named".to_owned();
    for drive in &meant {
        let (tag, name, size) = (&drive.tag, drive.name(), human_bytes(drive.bytes));
        text.push_str(&format!("\n   {tag}  {name}, {size}, {}", drive.path));
    }
    let next = match meant.as_slice() {
        [] => "plug one in, and name it with --to TAG; pyrotyp drives --all shows what is attached".to_owned(),
        [one] => format!("{command} --to {}", shell::word(one.tag.as_str())),
        _ => format!("{command} --to TAG, with the tag of the one that is meant"),
    };
    Ok(Failure::new(Exit::Usage, text, next))
}
