//! The image along the drive as a strip: what was proven, and where it differs.

use std::fmt::Write;

use pyrotyp_core::record::{Difference, JobResult};

/// Length and height of the strip, in its own units.
const WIDE: f64 = 640.0;
const HIGH: f64 = 26.0;
/// No difference is drawn narrower than this: it would not be seen.
const LEAST: f64 = 3.0;

/// Whether a job that ended like this has read the drive; a stage that found differences did not end well, and counts too.
pub(crate) fn is_read(result: JobResult) -> bool {
    matches!(result, JobResult::Verified | JobResult::Differs)
}

/// A strip of `bytes` bytes; `None` of nothing. Differences stand out of it, so that they are seen without colour.
pub(crate) fn image_map(bytes: u64, result: JobResult, differences: &[Difference]) -> Option<String> {
    let whole = (bytes > 0).then_some(bytes as f64)?;
    let (class, title) = if is_read(result) { ("proven", "read back") } else { ("unproven", "not read back") };
    let mut out = format!(
        r#"<svg class="map" viewBox="0 0 {WIDE} {HIGH}" role="img" aria-label="the image along the drive: {title}, {} differences">"#,
        differences.len()
    );
    // Writing to a string never fails.
    let _ = write!(out, r#"<rect class="{class}" x="0" y="7" width="{WIDE}" height="12"/>"#);
    for Difference { offset, bytes, .. } in differences {
        let long = (*bytes as f64 / whole * WIDE).clamp(LEAST, WIDE);
        let from = (*offset as f64 / whole * WIDE).min(WIDE - long);
        let _ = write!(out, r#"<rect class="differs" x="{from:.1}" y="1" width="{long:.1}" height="24"/>"#);
    }
    out.push_str("</svg>");
    Some(out)
}

#[cfg(test)]
mod tests {
    use pyrotyp_core::record::Cause;

    use super::*;

    #[test]
    fn differences_stand_out_of_the_strip_and_stay_inside_it() {
        let difference = |offset, bytes| Difference { offset, bytes, cause: Cause::Zeros, file: None };
        let all = [difference(0, 1), difference(500, 250), difference(u64::MAX, u64::MAX)];
        let map = image_map(1000, JobResult::Differs, &all).unwrap();
        for place in
            [r#"x="0.0" y="1" width="3.0""#, r#"x="320.0" y="1" width="160.0""#, r#"x="0.0" y="1" width="640.0""#]
        {
            assert!(map.contains(place), "{place}: {map}");
        }
        assert!(map.contains("class=\"proven\"") && map.contains("read back, 3 differences"));
        assert!(image_map(1000, JobResult::Written, &[]).unwrap().contains("class=\"unproven\""));
        assert_eq!(image_map(0, JobResult::Verified, &[]), None);
    }
}
