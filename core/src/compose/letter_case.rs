//! Capital partners of letters, as volumes compare names.

/// The capital partner of a code unit of UTF-16: of letters of the basic plane that have one, in one unit.
pub(super) fn upper(unit: u16) -> u16 {
    let partner = char::from_u32(u32::from(unit)).and_then(|letter| {
        let mut upper = letter.to_uppercase();
        let first = upper.next().filter(|_| upper.next().is_none())?;
        u16::try_from(u32::from(first)).ok()
    });
    partner.unwrap_or(unit)
}
