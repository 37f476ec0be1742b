//! How sizes are counted and told.

/// One MiB, in bytes.
pub const MIB: u64 = 1 << 20;

/// A size as people write it: a whole number of bytes, or with a unit, such as `4G`, `4 GB`, `512MiB`.
///
/// # Examples
/// ```
/// # use pyrotyp_core::bytes::bytes_in_words;
/// assert_eq!(bytes_in_words("4G"), Some(4_000_000_000));
/// assert_eq!(bytes_in_words("512 MiB"), Some(512 << 20));
/// assert_eq!(bytes_in_words("1.5GB"), Some(1_500_000_000));
/// assert_eq!(bytes_in_words("4X"), None);
/// ```
pub fn bytes_in_words(text: &str) -> Option<u64> {
    let text = text.trim().to_ascii_lowercase();
    let (number, unit) = text.split_at(text.find(|c: char| c.is_ascii_alphabetic()).unwrap_or(text.len()));
    let scale: u64 = match unit {
        "" | "b" => 1,
        "k" | "kb" => 1_000,
        "m" | "mb" => 1_000_000,
        "g" | "gb" => 1_000_000_000,
        "t" | "tb" => 1_000_000_000_000,
        "kib" => 1 << 10,
        "mib" => 1 << 20,
        "gib" => 1 << 30,
        "tib" => 1 << 40,
        _ => return None,
    };
    let (whole, tenths) = number.trim().split_once('.').unwrap_or((number.trim(), ""));
    let is_number = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    if whole.is_empty() || !is_number(whole) || !is_number(tenths) || tenths.len() > 9 {
        return None;
    }
    let part = match tenths.parse::<u64>() {
        Ok(part) => scale.checked_mul(part)?.checked_div(10u64.checked_pow(tenths.len() as u32)?)?,
        Err(_) => 0,
    };
    whole.parse::<u64>().ok()?.checked_mul(scale)?.checked_add(part)
}

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
