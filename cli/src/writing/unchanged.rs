//! What was put together from an image's file, as long as that file stays as it is.

use std::io::{self, Read};
use std::path::Path;

use pyrotyp_core::bytes::ReadAt;
use pyrotyp_core::compose::Composition;
use pyrotyp_core::job::{Access, ComposedImage, Source};
use pyrotyp_core::shelf::Identity;

/// A composition whose parts lie in a file; a file that is changed meanwhile is not sealed.
pub(crate) struct FromFile<'a> {
    made: ComposedImage<'a>,
    path: &'a Path,
    before: Option<Identity>,
}

impl<'a> FromFile<'a> {
    /// What was made from the file at `path`, as it is now.
    pub(crate) fn new(made: &'a Composition<'a>, path: &'a Path) -> Self {
        Self { made: ComposedImage(made), path, before: Identity::of(path).ok() }
    }
}

impl Source for FromFile<'_> {
    fn bytes(&self) -> Option<u64> {
        self.made.bytes()
    }

    fn access(&self) -> Access {
        self.made.access()
    }

    fn open(&self, at: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        self.made.open(at)
    }

    fn kept(&self) -> Option<&dyn ReadAt> {
        self.made.kept()
    }

    fn prove(&self) -> Result<(), String> {
        let is_same = self.before.is_some() && Identity::of(self.path).ok() == self.before;
        is_same.then_some(()).ok_or_else(|| "the image's file was changed while it was written".to_owned())
    }

    fn is_hole(&self, block: usize) -> bool {
        self.made.is_hole(block)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;
    use std::fs;

    use pyrotyp_core::compose::patched;

    use super::*;

    #[test]
    fn a_file_that_is_changed_or_replaced_meanwhile_proves_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.iso");
        let bytes = vec![7u8; 9000];
        fs::write(&path, &bytes).unwrap();
        let made = patched(&bytes, &BTreeMap::new());
        let source = FromFile::new(&made, &path);
        assert_eq!((source.bytes(), source.access(), source.prove()), (Some(9000), Access::Anywhere, Ok(())));
        fs::write(&path, [7u8; 9001]).unwrap();
        assert!(source.prove().is_err(), "it became longer");
        fs::remove_file(&path).unwrap();
        assert!(source.prove().is_err() && FromFile::new(&made, &path).prove().is_err(), "no file at all");
    }
}
