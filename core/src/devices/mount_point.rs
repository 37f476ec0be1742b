//! What a mount point says about the drive behind it.

use crate::drive::Use;

/// Folders below which desktops mount sticks by themselves.
const REMOVABLE_ROOTS: [&str; 3] = ["/media/", "/run/media/", "/Volumes/"];

/// Mount points that a running system can't do without; what lies below them counts as well.
const SYSTEM: [&str; 9] = ["/boot", "/efi", "/home", "/usr", "/var", "/opt", "/nix", "/etc", "/root"];

/// The use that a volume mounted at `at` has.
pub(super) fn use_of(at: &str) -> Use {
    let below = |root: &str| at == root || at.strip_prefix(root).is_some_and(|rest| rest.starts_with('/'));
    let at = at.to_owned();
    if at == "/" || SYSTEM.iter().any(|root| below(root)) {
        Use::System { what: at }
    } else if REMOVABLE_ROOTS.iter().any(|root| at.starts_with(root)) {
        Use::Removable { at }
    } else {
        Use::Mounted { at }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_a_desktop_mounted_may_be_unmounted() {
        let kinds =
            ["/", "/boot/efi", "/home/ann", "/homework", "/mnt", "/media/ann/STICK", "/run/media/ann/S", "/media"];
        let kinds: Vec<_> = kinds
            .iter()
            .map(|at| match use_of(at) {
                Use::System { .. } => "system",
                Use::Removable { .. } => "removable",
                _ => "mounted",
            })
            .collect();
        assert_eq!(kinds, ["system", "system", "system", "mounted", "mounted", "removable", "removable", "mounted"]);
    }
}
