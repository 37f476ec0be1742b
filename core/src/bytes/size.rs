//! How sizes are counted and told.

/// One MiB, in bytes.
pub const MIB: u64 = 1 << 20;

/// A size as it is printed on a drive's case: decimal units, three digits or fewer.
///
/// # Examples
/// ```
/// # use pyrotyp_core::bytes::human_bytes;
/// assert_eq!(human_bytes(512), "512 bytes");
/// assert_eq!(human_bytes(16_008_609_792), "16.0 GB");
/// assert_eq!(human_bytes(512_110_190_592), "512 GB");
/// assert_eq!(human_bytes(999_960_000), "1.0 GB");
/// ```
pub fn human_bytes(bytes: u64) -> String {
    if bytes < 1000 {
        return format!("{bytes} bytes");
    }
    let mut size = bytes as f64;
    let mut unit = "";
    for next in ["kB", "MB", "GB", "TB", "PB", "EB"] {
        size /= 1000.0;
        unit = next;
        if size < 999.95 {
            break;
        }
    }
    if size < 99.95 { format!("{size:.1} {unit}") } else { format!("{size:.0} {unit}") }
}
