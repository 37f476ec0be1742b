//! All signatures that came with an image, checked: who vouches for which list, and since when is that key known?

use jiff::Timestamp;

use crate::bytes::ReadAt;
use crate::machine::clock;
use crate::published::signature::{Fault, Key, Remembered, Scheme, Signed, day, verify};
use crate::published::{Over, Published};
use crate::stop::Cancel;

/// How a signature came out.
#[derive(Clone, Debug)]
pub struct Vouched {
    /// The file that holds the signature.
    pub file: String,
    /// What it signs: the path of a list, or that of the image.
    pub over: String,
    /// Whether it signs the image itself.
    pub is_over_image: bool,
    /// How it is made; `None` if it can't be read.
    pub scheme: Option<Scheme>,
    /// The key that made it, if it holds.
    pub key: Option<Key>,
    /// When it was made.
    pub made: Option<Timestamp>,
    /// Whether its key is used for the first time on this bench.
    pub is_first_use: bool,
    /// Why it proves nothing.
    pub fault: Option<Fault>,
    /// Whether the fault is a reason to go no further, and not merely something that nobody could check.
    pub is_refusal: bool,
}

impl Vouched {
    /// Whether somebody whose key is known vouches.
    pub fn is_good(&self) -> bool {
        self.fault.is_none()
    }
}

/// What the signatures are about.
#[derive(Clone, Copy)]
pub struct Subject<'a> {
    /// The image.
    pub image: &'a dyn ReadAt,
    /// What it calls itself, by which its key is remembered.
    pub system: Option<&'a str>,
}

/// The keys that may have made them.
#[derive(Clone, Copy)]
pub struct Keys<'a> {
    /// Named now.
    pub given: &'a [Key],
    /// Used before: what they tell of a changed key counts always.
    pub remembered: &'a Remembered,
    /// Whether only a key that is named now may have made a signature.
    pub is_given_only: bool,
}

/// Checks every signature of `published`.
///
/// A signature that lies beside the image and whose key nobody knows is no refusal, unless it or a key was asked for.
pub fn vouch(
    published: &Published,
    subject: Subject<'_>,
    keys: Keys<'_>,
    now: Timestamp,
    cancel: &Cancel,
) -> Vec<Vouched> {
    let (Subject { image, system }, Keys { given, remembered, is_given_only }) = (subject, keys);
    let others = if is_given_only { &[] } else { remembered.keys() };
    let mut all = Vec::new();
    for signature in &published.signatures {
        let try_one = |over| {
            let signed = match over {
                &Over::Image { .. } => Signed::Image(image, cancel),
                Over::List { bytes, .. } => Signed::Bytes(bytes),
            };
            let read = signature.read.as_ref().ok_or(Fault::NoSignature)?;
            let good = verify(&read.signature, signed, given, others, clock::at_least_built(now));
            good.map_err(|fault| match fault {
                Fault::FromTheFuture { on, .. } => Fault::FromTheFuture { on, clock: day(now) },
                other => other,
            })
        };
        let mut held = None;
        for over in &signature.over {
            let outcome = try_one(over);
            // Of several that do not hold, the first is told.
            if outcome.is_ok() || held.is_none() {
                held = Some((over, outcome));
            }
            if matches!(held, Some((_, Ok(_)))) {
                break;
            }
        }
        let Some((over, outcome)) = held else { continue };
        let admitted = outcome.and_then(|good| Ok((remembered.admit(good.key, system)?, good)));
        let path = match over {
            Over::Image { path } | Over::List { path, .. } => path,
        };
        let mut vouched = Vouched {
            file: signature.file.to_string_lossy().into_owned(),
            over: path.to_string_lossy().into_owned(),
            is_over_image: matches!(over, Over::Image { .. }),
            scheme: signature.read.as_ref().map(|read| read.signature.scheme()),
            key: None,
            made: None,
            is_first_use: false,
            fault: None,
            is_refusal: false,
        };
        match admitted {
            Ok((is_first_use, good)) => {
                (vouched.key, vouched.made, vouched.is_first_use) = (Some(good.key.clone()), good.made, is_first_use);
            }
            Err(fault) => {
                let is_unchecked =
                    matches!(fault, Fault::UnknownKey { .. } | Fault::ForeignKind { .. } | Fault::NoSignature);
                vouched.is_refusal = !is_unchecked || signature.is_asked || !given.is_empty();
                vouched.fault = Some(fault);
            }
        }
        all.push(vouched);
    }
    all
}
