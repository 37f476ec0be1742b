//! How a PC is brought to start from a stick, chosen by what is known of its image.

use pyrotyp_core::image::{Architecture, Boot, Firmware, Summary, Verdict, Via};

/// A step or an obstacle.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Advice {
    /// In a few words.
    pub title: &'static str,
    /// What to do.
    pub text: String,
}

/// Which PCs start from a stick, as far as its image tells.
struct StartsFrom {
    bios: bool,
    uefi: Vec<Boot>,
}

impl StartsFrom {
    fn of(image: &Summary) -> Self {
        // What an optical disc offers does not start from a stick.
        let from_stick = || image.boots.iter().filter(|boot| boot.via != Via::ElTorito);
        Self {
            bios: from_stick().any(|boot| boot.firmware == Firmware::Bios),
            uefi: from_stick().filter(|boot| boot.firmware == Firmware::Uefi).copied().collect(),
        }
    }

    fn is_known(&self) -> bool {
        self.bios || !self.uefi.is_empty()
    }
}

/// What to do in its order, then what usually stands in the way.
pub(crate) fn starting(image: &Summary) -> Vec<Advice> {
    let starts = StartsFrom::of(image);
    let said = |title, text: &str| Advice { title, text: text.to_owned() };
    let mut all = Vec::new();
    if image.verdict == Some(Verdict::No) {
        all.push(said(
            "It starts no PC",
            "Nothing in this image starts a PC from a stick. It was written all the same.",
        ));
        return all;
    }
    all.push(said(
        "Ask for the boot menu once",
        "Plug the stick in while the PC is off. Switch it on and press the key for its boot menu again and again, until a list comes: \
         usually F12; otherwise F11, F9, F8, F10 or Esc. The screen shows the key for a moment. \
         The choice holds for this one start, and nothing in the PC is changed.",
    ));
    all.push(which_entry(&starts));
    all.extend(processors(image));
    all.extend(secure_boot(&starts));
    all.push(said(
        "The PC starts its own system all the same",
        "Its fast start-up did not shut it down, and skips the keyboard. Hold Shift while you choose “Shut down”, or choose “Restart”, \
         and press the key then.",
    ));
    all.push(said(
        "The stick is not in the list",
        "Try a USB 2 socket at the back, without a hub. In the PC's setup, USB boot must be allowed; where there is no boot menu at all, \
         put the stick first in the order of boot devices, and the disk first again afterwards.",
    ));
    all
}

fn which_entry(starts: &StartsFrom) -> Advice {
    let (title, text) = match (starts.bios, starts.uefi.is_empty()) {
        (true, false) => (
            "One stick, two entries",
            "It may be listed twice. The entry with “UEFI” before its name starts it as newer PCs do: take it, so that what gets installed \
             starts that way too. The other starts it as a BIOS does: for PCs from before about 2012, or a disk whose system starts by BIOS.",
        ),
        (false, false) => (
            "Take the entry with UEFI",
            "This image starts by UEFI alone. A PC that has BIOS only, or whose setup is set to “legacy”, does not start it.",
        ),
        (true, true) => (
            "Take the entry without UEFI",
            "This image starts by BIOS alone. A PC with UEFI needs “legacy boot” (also called CSM) switched on in its setup; many newer ones \
             no longer have it.",
        ),
        (false, true) => (
            "Which entry",
            "If the stick is listed twice, the entry with “UEFI” before its name is for newer PCs, the other for those with a BIOS.",
        ),
    };
    Advice { title, text: text.to_owned() }
}

fn processors(image: &Summary) -> Option<Advice> {
    let first = image.boots.first().map(|boot| boot.arch);
    let of_all = first.filter(|arch| image.boots.iter().all(|boot| boot.arch == *arch));
    let text = match image.architecture.or(of_all)? {
        Architecture::X86Of64 => {
            "This system needs a 64-bit processor (x86-64): any PC from after about 2008. On an older one it stops with a message about the \
             processor."
                .to_owned()
        }
        Architecture::X86 => {
            "This system is for 32-bit processors (x86), and starts on 64-bit PCs as well, mostly by BIOS: few PCs have UEFI of 32 bits."
                .to_owned()
        }
        other => format!("This system is for {} processors: an ordinary PC does not start it.", other.word()),
    };
    Some(Advice { title: "Which computers", text })
}

fn secure_boot(starts: &StartsFrom) -> Option<Advice> {
    let signed = |sign| starts.uefi.iter().any(|boot| boot.signed == Some(sign));
    let text = match (signed(true), signed(false)) {
        (true, _) => {
            "Its boot program carries a signature, so Secure Boot can stay on if the PC trusts the one who signed. If it says “security \
             violation”, or goes back to the list, switch Secure Boot off in the PC's setup."
        }
        (false, true) => {
            "Its boot program carries no signature: with Secure Boot on, a PC refuses it. Switch Secure Boot off in the PC's setup \
             (F2 or Del right after switching on). If the disk is encrypted, have its recovery key at hand first."
        }
        (false, false) if starts.is_known() => return None,
        (false, false) => {
            "If a PC with UEFI refuses the stick, switch Secure Boot off in its setup (F2 or Del right after switching on)."
        }
    };
    Some(Advice { title: "Secure Boot", text: text.to_owned() })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn image(architecture: Option<Architecture>, boots: &[(Firmware, Via, Option<bool>)]) -> Summary {
        let boot = |(firmware, via, signed): &(Firmware, Via, Option<bool>)| Boot {
            firmware: *firmware,
            arch: architecture.unwrap_or(Architecture::X86Of64),
            via: *via,
            signed: *signed,
        };
        Summary {
            architecture,
            verdict: Some(Verdict::Ready),
            boots: boots.iter().map(boot).collect(),
            ..Summary::default()
        }
    }

    #[test]
    fn the_advice_is_for_this_image() {
        use Architecture::{Aarch64, X86, X86Of64};
        use Firmware::{Bios, Uefi};
        use Via::{ElTorito, Esp, Mbr};
        let images = [
            image(Some(X86Of64), &[(Bios, Mbr, None), (Uefi, Esp, Some(true))]),
            image(Some(X86), &[(Bios, Mbr, None)]),
            image(None, &[(Uefi, Esp, Some(false)), (Bios, ElTorito, None)]),
            image(Some(Aarch64), &[(Uefi, Esp, Some(false))]),
            Summary::default(),
            Summary { verdict: Some(Verdict::No), ..image(Some(X86Of64), &[]) },
        ];
        let beginning = |advice: &Advice| {
            let first: String = advice.text.chars().take(64).collect();
            format!("  {}: {first}", advice.title)
        };
        // The first and the last two are the same for all that start.
        let of = |image: &Summary| starting(image).iter().map(beginning).collect::<Vec<_>>().join("\n");
        let told: Vec<String> = images.iter().map(of).collect();
        insta::assert_snapshot!("advice", told.join("\n\n"));
    }
}
