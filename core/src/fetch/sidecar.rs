//! What a publisher puts beside an image: lists of checksums and their signatures, looked for under the usual names.

use std::path::{Path, PathBuf};
use std::{fs, io};

use url::Url;

use crate::fetch::patience::Patience;
use crate::fetch::public_address::public_address;
use crate::fetch::web::Web;
use crate::fetch::{Mirror, MirrorFault, Wanted};
use crate::published::signature::{SIGNATURE_BYTES_MOST, SignatureFile};
use crate::published::{SUMS_BYTES_MOST, kind_in, parse};
use crate::stop::Cancel;

/// Names of lists, as publishers use them; `{}` stands for the image's own name.
const LISTS: [&str; 10] = [
    "SHA256SUMS",
    "{}.sha256",
    "SHA512SUMS",
    "{}.sha512",
    "sha256sum.txt",
    "CHECKSUM",
    "{}.sha256sum",
    "{}.DIGESTS",
    "sha512sum.txt",
    "{}-CHECKSUM",
];
/// What is added to a name for its signature.
const SIGNATURES: [&str; 5] = ["asc", "sig", "minisig", "sign", "gpg"];

/// Most mirrors that are asked, and how often each.
const MIRRORS_MOST: usize = 4;
const TRIES: u32 = 3;

/// What was found, as it is to lie beside the image.
#[derive(Clone, Debug, Default)]
pub struct Beside {
    /// Names of files that belong to the image, and their bytes.
    pub files: Vec<(String, Vec<u8>)>,
}

impl Beside {
    /// Puts everything into `folder`.
    ///
    /// # Errors
    /// When a file can't be written.
    pub fn put(&self, folder: &Path) -> io::Result<Vec<PathBuf>> {
        let paths = self.files.iter().map(|(name, bytes)| {
            let path = folder.join(name);
            fs::write(&path, bytes)?;
            Ok(path)
        });
        paths.collect()
    }
}

/// Looks on the image's mirrors for a list that names it, and for signatures. Under the image's own name they are
/// found again, and do not come in the way of those of other images. Only where a mirror says that there is none is there none:
/// one that says anything else is asked again, and then the next.
///
/// # Errors
/// With the address of what was asked for, when no mirror tells whether there is one.
pub fn beside(web: &Web, wanted: &Wanted, cancel: &Cancel) -> Result<Beside, (String, MirrorFault)> {
    let mut failed = None;
    for mirror in wanted.mirrors.iter().take(MIRRORS_MOST) {
        match beside_on(web, wanted, mirror, cancel) {
            Ok(found) => return Ok(found),
            Err((address, MirrorFault::Stopped)) => return Err((address, MirrorFault::Stopped)),
            Err(fault) => failed = failed.or(Some(fault)),
        }
    }
    failed.map_or_else(|| Ok(Beside::default()), Err)
}

fn beside_on(web: &Web, wanted: &Wanted, mirror: &Mirror, cancel: &Cancel) -> Result<Beside, (String, MirrorFault)> {
    let mut found = Beside::default();
    if let Some(bytes) = &wanted.signature {
        found.files.push((format!("{}.asc", wanted.name), bytes.clone()));
    }
    let base = super::address::address(&mirror.address).map_err(|fault| (public_address(&mirror.address), fault))?;
    let published = base.path_segments().and_then(|mut parts| parts.next_back()).unwrap_or_default().to_owned();
    let mut signed = vec![(published.clone(), wanted.name.clone())];
    for list in LISTS {
        let remote = list.replace("{}", &published);
        let Some(bytes) = ask(web, &base, &remote, SUMS_BYTES_MOST, cancel)? else { continue };
        let text = SignatureFile::read(&bytes).and_then(|signature| signature.text);
        let lines = parse(text.as_deref().unwrap_or(&bytes), kind_in(list)).lines;
        // A page of the server's, a list of other images, or a checksum that does not say whose it is.
        let is_own = list.starts_with("{}");
        if !lines.iter().any(|line| line.is_for(&wanted.name) && (is_own || line.name.is_some())) {
            continue;
        }
        let ending = list.strip_prefix("{}").map_or(list, |ending| ending.trim_start_matches(['.', '-']));
        let local = format!("{}.{ending}", wanted.name);
        found.files.push((local.clone(), bytes));
        if text.is_none() {
            signed.insert(0, (remote, local));
        }
        break;
    }
    for (remote, local) in signed {
        for ending in SIGNATURES {
            let name = format!("{remote}.{ending}");
            let Some(bytes) = ask(web, &base, &name, SIGNATURE_BYTES_MOST, cancel)? else { continue };
            if SignatureFile::read(&bytes).is_some() {
                found.files.push((format!("{local}.{ending}"), bytes));
                break;
            }
        }
        // Who signs the list need not sign the image.
        if found.files.len() > 1 {
            break;
        }
    }
    Ok(found)
}

/// A file in the same folder of the server; `None` if the server says that there is none.
fn ask(
    web: &Web,
    base: &Url,
    name: &str,
    most: u64,
    cancel: &Cancel,
) -> Result<Option<Vec<u8>>, (String, MirrorFault)> {
    let Ok(address) = base.join(&format!("./{name}")) else { return Ok(None) };
    let mut patience = Patience::default();
    loop {
        match web.file(address.as_str(), most, cancel) {
            Ok(found) => return Ok(found),
            Err(fault) if fault.is_lasting() => return Err((public_address(address.as_str()), fault)),
            Err(fault) => {
                patience.failed();
                if patience.in_a_row() >= TRIES {
                    return Err((public_address(address.as_str()), fault));
                }
                cancel.pause(patience.pause());
            }
        }
    }
}
