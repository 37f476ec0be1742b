//! The files of an optical image as a tree that FAT holds: links are followed where they stay inside, and what can't lie there is told.

use std::collections::{BTreeMap, VecDeque};
use std::io;

use crate::bytes::ReadAt;
use crate::compose::tree::{FileBytes, Tree, TreeFault};
use crate::image::Inspection;
use crate::volume::{Leaf, LeafKind, udf};

/// Most links that are followed to get to one file.
const LINKS_MOST: usize = 16;
/// Most that is not laid out; what is has its bound in the tree. Links that multiply each other end at one or the other.
const LEFT_OUT_MOST: usize = 10_000;
/// A folder in which Rock Ridge keeps others that lie too deep; they have their places elsewhere (IEEE P1282, §4.1.5).
const MOVED: &str = "rr_moved";

/// Something that does not come along, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOut {
    /// Where it lies in the image.
    pub path: String,
    /// Why.
    pub why: String,
}

/// The files of an image.
#[derive(Debug)]
pub struct UnpackedTree<'a> {
    /// For a volume.
    pub tree: Tree<'a>,
    /// How many files there are.
    pub files: u64,
    /// How long they are together, in bytes.
    pub bytes: u64,
    /// What does not come along.
    pub left_out: Vec<LeftOut>,
}

/// Why an image's files can't be laid out.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum UnpackFault {
    /// There is no volume with files that is read here.
    #[error("it holds no ISO 9660 or UDF volume whose files could be laid out")]
    NoVolume,
    /// A part of the tree is not there.
    #[error("{path}: {why}")]
    Lost {
        /// Where.
        path: String,
        /// Why.
        why: &'static str,
    },
    /// There are too many.
    #[error(transparent)]
    Many(TreeFault),
    /// Too many of them can't be laid out.
    #[error("{LEFT_OUT_MOST} of its files and more can't be laid out, such as {first}")]
    LeftOut {
        /// The first of them.
        first: String,
    },
    /// The image can't be read.
    #[error("the image can't be read")]
    Unread(#[from] io::Error),
}

/// The files of an image that was looked into, in the order in which they lie there.
///
/// # Errors
/// When it has none that are read here, when some are not where they should be, and when the image can't be read.
pub fn unpacked<'a>(image: &'a dyn ReadAt, inspection: &Inspection) -> Result<UnpackedTree<'a>, UnpackFault> {
    // Where both are there, the UDF volume holds the real files.
    let leaves = match &inspection.optical.volume {
        Some(volume) if volume.udf.is_none() => volume.leaves(image)?,
        Some(_) => udf::leaves(image)?,
        None if udf::read(image)?.is_some() => udf::leaves(image)?,
        None => return Err(UnpackFault::NoVolume),
    };
    laid_out(image, leaves)
}

fn laid_out(image: &dyn ReadAt, mut leaves: Vec<Leaf>) -> Result<UnpackedTree<'_>, UnpackFault> {
    for leaf in &leaves {
        if let LeafKind::Lost(why) = leaf.kind {
            return Err(UnpackFault::Lost { path: leaf.path.clone(), why });
        }
    }
    // Reading goes through the image from its start to its end.
    leaves.sort_by_key(|leaf| match &leaf.kind {
        LeafKind::Folder => (0, 0),
        LeafKind::File(parts) => (1, parts.first().map_or(0, |part| part.start)),
        LeafKind::Link(_) | LeafKind::Special | LeafKind::Lost(_) => (2, 0),
    });
    let by_path = leaves.iter().enumerate().map(|(number, leaf)| (leaf.path.as_str(), number)).collect();
    let mut laying = Laying {
        image,
        leaves: &leaves,
        by_path,
        made: UnpackedTree { tree: Tree::default(), files: 0, bytes: 0, left_out: Vec::new() },
    };
    for leaf in &leaves {
        laying.put(leaf, &leaf.path, 0)?;
    }
    Ok(laying.made)
}

struct Laying<'a, 'b> {
    image: &'a dyn ReadAt,
    leaves: &'b [Leaf],
    by_path: BTreeMap<&'b str, usize>,
    made: UnpackedTree<'a>,
}

impl<'b> Laying<'_, 'b> {
    /// Puts an entry at a place, which is another than its own where a link leads to it.
    fn put(&mut self, leaf: &'b Leaf, at: &str, links: usize) -> Result<(), UnpackFault> {
        if let Some(LeftOut { path, why }) =
            self.made.left_out.first().filter(|_| self.made.left_out.len() >= LEFT_OUT_MOST)
        {
            return Err(UnpackFault::LeftOut { first: format!("{path}: {why}") });
        }
        let made = &mut self.made;
        let added = match &leaf.kind {
            LeafKind::Folder if at.eq_ignore_ascii_case(MOVED) => Ok(()),
            LeafKind::Folder => made.tree.add_folder(at, leaf.modified),
            LeafKind::File(parts) => {
                let parts = parts.iter().filter(|part| part.bytes > 0);
                let parts = parts.map(|part| part.start..part.start.saturating_add(part.bytes)).collect();
                let bytes = FileBytes::Parts { of: self.image, parts };
                let length = bytes.size();
                made.tree.add_file(at, leaf.modified, bytes).inspect(|()| {
                    made.files = made.files.saturating_add(1);
                    made.bytes = made.bytes.saturating_add(length);
                })
            }
            LeafKind::Link(target) => return self.follow(leaf, target, at, links),
            LeafKind::Special => {
                self.leave_out(at, "it is a device or a pipe".to_owned());
                return Ok(());
            }
            LeafKind::Lost(_) => return Ok(()),
        };
        match added {
            Ok(()) => Ok(()),
            Err(fault @ TreeFault::Many) => Err(UnpackFault::Many(fault)),
            Err(fault) => {
                self.leave_out(at, fault.why());
                Ok(())
            }
        }
    }

    fn leave_out(&mut self, path: &str, why: String) {
        self.made.left_out.push(LeftOut { path: path.to_owned(), why });
    }

    /// The path that a link leads to, by way of other links too; empty for the root itself. `None` where it leaves the tree.
    fn resolved(&self, link: &'b str, target: &'b str) -> Option<String> {
        let mut here: Vec<&str> = link.split('/').collect();
        here.pop();
        let mut rest: VecDeque<&str> = target.split('/').collect();
        let mut links = 0usize;
        (!target.starts_with('/')).then_some(())?;
        while let Some(step) = rest.pop_front() {
            match step {
                "" | "." => {}
                ".." => {
                    here.pop()?;
                }
                name => here.push(name),
            }
            let leaf = self.by_path.get(here.join("/").as_str()).and_then(|number| self.leaves.get(*number));
            if let Some(Leaf { kind: LeafKind::Link(on_the_way), .. }) = leaf.filter(|_| !rest.is_empty()) {
                links = links.saturating_add(1);
                (links <= LINKS_MOST && !on_the_way.starts_with('/')).then_some(())?;
                here.pop();
                on_the_way.split('/').rev().for_each(|step| rest.push_front(step));
            }
        }
        Some(here.join("/"))
    }

    /// Puts what a link leads to in its place.
    fn follow(&mut self, link: &'b Leaf, target: &'b str, at: &str, links: usize) -> Result<(), UnpackFault> {
        let path = self.resolved(&link.path, target);
        let found = path.as_deref().and_then(|path| self.by_path.get(path).copied());
        let found = found.and_then(|number| self.leaves.get(number));
        // The folder that the link lies in, or one that holds that.
        let is_endless = |leaf: &Leaf| link.path.strip_prefix(&leaf.path).is_some_and(|rest| rest.starts_with('/'));
        let leaf = match found {
            Some(leaf) if links < LINKS_MOST && !is_endless(leaf) => leaf,
            None if path.as_deref() != Some("") => {
                self.leave_out(at, format!("it links to {target}, and that is not in the image"));
                return Ok(());
            }
            _ => {
                self.leave_out(at, format!("it links to {target}, and that has no end"));
                return Ok(());
            }
        };
        let inside = format!("{}/", leaf.path);
        let links = links.saturating_add(1);
        self.put(leaf, at, links)?;
        if leaf.kind == LeafKind::Folder {
            let below = self.by_path.range(inside.as_str()..).take_while(|(path, _)| path.starts_with(&inside));
            let below: Vec<usize> = below.map(|(_, number)| *number).collect();
            for leaf in below.into_iter().filter_map(|number| self.leaves.get(number)) {
                let rest = leaf.path.get(inside.len()..).unwrap_or_default();
                self.put(leaf, &format!("{at}/{rest}"), links)?;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::volume::iso9660::Extent;

    fn leaf(path: &str, kind: LeafKind) -> Leaf {
        Leaf { path: path.to_owned(), modified: None, kind }
    }

    fn link(path: &str, target: &str) -> Leaf {
        leaf(path, LeafKind::Link(target.to_owned()))
    }

    #[test]
    fn links_are_followed_where_they_stay_inside_and_end() {
        let image = vec![0u8; 4096];
        let file = LeafKind::File(vec![Extent { start: 2048, bytes: 7 }]);
        let leaves = vec![
            leaf("a", LeafKind::Folder),
            leaf("a/b", LeafKind::Folder),
            leaf("a/b/file", file),
            link("a/up", "../c/./b/file"),
            link("c", "a"),
            link("a/b/round", "../../a"),
            link("self", "self"),
            link("one", "other"),
            link("other", "one"),
            link("root", "/"),
            link("above", "a/../../a"),
            link("lost", "a/nothing"),
            leaf("pipe", LeafKind::Special),
        ];
        let made = laid_out(&image, leaves).unwrap();
        let left: Vec<String> = made.left_out.iter().map(|left| format!("{}: {}", left.path, left.why)).collect();
        insta::assert_snapshot!(left.join("\n"), @"
        c/b/round: it links to ../../a, and that has no end
        a/b/round: it links to ../../a, and that has no end
        self: it links to self, and that has no end
        one: it links to other, and that has no end
        other: it links to one, and that has no end
        root: it links to /, and that is not in the image
        above: it links to a/../../a, and that is not in the image
        lost: it links to a/nothing, and that is not in the image
        pipe: it is a device or a pipe
        ");
        assert_eq!((made.files, made.bytes), (4, 28));
    }

    #[test]
    fn links_that_multiply_each_other_end() {
        // In each of sixteen folders, ten links to the next one.
        let mut leaves = Vec::new();
        for depth in 0..16 {
            leaves.push(leaf(&format!("f{depth}"), LeafKind::Folder));
            leaves.extend((0..10).map(|number| link(&format!("f{depth}/{number}"), &format!("../f{}", depth + 1))));
        }
        let image = Vec::new();
        let fault = laid_out(&image, leaves).unwrap_err().to_string();
        assert_eq!(
            fault,
            "10000 of its files and more can't be laid out, such as f0/0/0/0/0/0/0/0/0/0/0/0/0/0/0/0/0: it links to ../f16, and that is not in the image"
        );
    }
}
