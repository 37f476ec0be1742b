//! Which known word was probably meant.

/// From here on two words are alike enough to be meant for each other (Jaro-Winkler).
const ALIKE: f64 = 0.88;

/// So much less counts the beginning of a word than all of it.
const START_COUNTS_LESS: f64 = 0.05;

/// The word of these that is nearest to `typed`, if one is near.
pub(crate) fn nearest<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let typed = typed.to_lowercase();
    let alike = |word: &str| {
        let word = word.to_lowercase();
        // A name may be meant by its beginning.
        let start: String = word.chars().take(typed.chars().count()).collect();
        strsim::jaro_winkler(&typed, &word).max(strsim::jaro_winkler(&typed, &start) - START_COUNTS_LESS)
    };
    let rated = known.into_iter().map(|word| (alike(word), word));
    let best = rated.max_by(|a, b| a.0.total_cmp(&b.0))?;
    (best.0 >= ALIKE).then_some(best.1)
}
