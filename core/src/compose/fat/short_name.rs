//! Short names, in eight and three letters, one for each long one.
//!
//! Source: Microsoft FAT Specification (2004), section 6 (short names), section 7 (long names and the tails of their short ones).

use std::collections::{HashMap, HashSet};

/// Letters of its two parts.
const STEM: usize = 8;
const ENDING: usize = 3;
/// Beside letters and digits, what a short name may hold, section 6.1.
const SIGNS: &[u8] = b"$%'-_@~`!(){}^#&";
/// How much of a name leads the tails that are counted together.
const COUNTED: usize = 6;

/// A short name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct ShortName {
    /// Its parts, filled up with spaces.
    pub bytes: [u8; STEM + ENDING],
    /// Whether it is the whole name, so that no long one is needed.
    pub is_whole: bool,
}

impl ShortName {
    /// Beside a long one.
    fn of(stem: &[u8], ending: &[u8]) -> Self {
        let mut bytes = [b' '; STEM + ENDING];
        let (first, last) = bytes.split_at_mut(STEM);
        first.iter_mut().zip(stem).for_each(|(into, byte)| *into = *byte);
        last.iter_mut().zip(ending).for_each(|(into, byte)| *into = *byte);
        Self { bytes, is_whole: false }
    }

    /// The sum that ties a long name to it, section 7.2.
    pub(super) fn sum(&self) -> u8 {
        self.bytes.iter().fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte))
    }
}

/// What is left of a long name in short letters.
struct Basis {
    stem: Vec<u8>,
    ending: Vec<u8>,
    /// Whether nothing is lost but the difference between small and capital letters.
    is_faithful: bool,
}

impl Basis {
    fn of(name: &str) -> Self {
        let inner = name.trim_start_matches('.');
        let (stem, ending) = inner.rsplit_once('.').unwrap_or((inner, ""));
        let letters = |part: &str, most: usize| -> Vec<u8> {
            let kept = part.chars().filter(|c| !matches!(c, ' ' | '.'));
            let letter = |c: char| {
                let byte = u8::try_from(c.to_ascii_uppercase()).unwrap_or(b'_');
                if byte.is_ascii_alphanumeric() || SIGNS.contains(&byte) { byte } else { b'_' }
            };
            kept.map(letter).take(most).collect()
        };
        let (stem, ending) = (letters(stem, STEM), letters(ending, ENDING));
        let again = if ending.is_empty() { stem.clone() } else { [&stem[..], b".", &ending].concat() };
        let is_faithful = name.as_bytes().eq_ignore_ascii_case(&again);
        Self { stem, ending, is_faithful }
    }
}

/// The short names of all names of a folder, of which no two are equal: those that need no tail keep theirs.
pub(super) fn short_names(names: &[&str]) -> Vec<ShortName> {
    let bases: Vec<Basis> = names.iter().map(|name| Basis::of(name)).collect();
    let faithful = |basis: &Basis| basis.is_faithful.then(|| ShortName::of(&basis.stem, &basis.ending).bytes);
    let mut taken: HashSet<[u8; STEM + ENDING]> = bases.iter().filter_map(faithful).collect();
    let mut tails: HashMap<(Vec<u8>, Vec<u8>), u32> = HashMap::new();
    let name = |(basis, name): (Basis, &&str)| {
        let Basis { stem, ending, is_faithful } = basis;
        if is_faithful {
            let is_whole = !name.bytes().any(|byte| byte.is_ascii_lowercase());
            return ShortName { is_whole, ..ShortName::of(&stem, &ending) };
        }
        let counted = (stem.iter().copied().take(COUNTED).collect(), ending.clone());
        let count = tails.entry(counted).or_default();
        loop {
            *count = count.saturating_add(1);
            let tail = format!("~{count}");
            let kept = stem.iter().copied().take(STEM.saturating_sub(tail.len()));
            let with_tail: Vec<u8> = kept.chain(tail.bytes()).collect();
            let short = ShortName::of(&with_tail, &ending);
            if taken.insert(short.bytes) {
                return short;
            }
        }
    };
    bases.into_iter().zip(names).map(name).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn each_long_name_has_a_short_one_of_its_own() {
        let names = [
            "README.TXT",
            "readme.md",
            "Letter to Ann.txt",
            "Letter to Bob.txt",
            "LETTER~1.TXT",
            ".profile",
            "vmlinuz-6.1.0",
            "a.tar.gz",
            "Übersicht",
            "日本語.txt",
            "한국어.txt",
            "no.ending+",
            "x",
        ];
        let told: Vec<String> = short_names(&names)
            .iter()
            .zip(names)
            .map(|(short, name)| {
                format!("{} {} {name}", String::from_utf8_lossy(&short.bytes), if short.is_whole { "=" } else { "<" })
            })
            .collect();
        insta::assert_snapshot!(told.join("\n"), @"
        README  TXT = README.TXT
        README  MD  < readme.md
        LETTER~2TXT < Letter to Ann.txt
        LETTER~3TXT < Letter to Bob.txt
        LETTER~1TXT = LETTER~1.TXT
        PROFIL~1    < .profile
        VMLINU~10   < vmlinuz-6.1.0
        ATAR~1  GZ  < a.tar.gz
        _BERSI~1    < Übersicht
        ___~1   TXT < 日本語.txt
        ___~2   TXT < 한국어.txt
        NO~1    END < no.ending+
        X           < x
        ");
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(64) })]
        #[test]
        fn no_two_are_equal_and_all_are_allowed(names in prop::collection::hash_set("[aA.~1é][aAbcdefgh ~0-9é+.]{0,14}[a1é]", 0..300)) {
            // Names that differ in capital letters alone do not come together in a folder.
            let folded: HashMap<String, String> = names.into_iter().map(|name| (name.to_uppercase(), name)).collect();
            let names: Vec<&str> = folded.values().map(String::as_str).collect();
            let short = short_names(&names);
            let distinct: HashSet<[u8; STEM + ENDING]> = short.iter().map(|short| short.bytes).collect();
            prop_assert_eq!(distinct.len(), names.len());
            for short in short {
                prop_assert!(short.bytes[0] != b' ');
                prop_assert!(short.bytes.iter().all(|b| *b == b' ' || b.is_ascii_uppercase() || b.is_ascii_digit() || SIGNS.contains(b)));
            }
        }
    }
}
