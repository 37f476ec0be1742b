//! Where what lies: files and folders of a tree, each in one piece, one behind the other.

use crate::compose::error::ComposeError;
use crate::compose::tree::{ROOT, Tree, TreeContent};

/// Clusters of one file or folder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct ClusterRun {
    /// The first one; 0 where there is none.
    pub first: u32,
    pub count: u32,
}

/// Clusters of all of a tree.
#[derive(Debug)]
pub(super) struct Placing {
    runs: Vec<ClusterRun>,
    /// Folders, then files, each in the order in which they came.
    order: Vec<usize>,
    /// The first cluster behind all of them.
    pub next: u32,
}

/// Where they may lie.
#[derive(Clone, Copy, Debug)]
pub(super) struct ClusterSpace {
    /// Size of a cluster, in bytes.
    pub cluster: u64,
    /// The first one that is free.
    pub first: u32,
    /// The first one that is not there.
    pub end: u32,
}

impl Placing {
    /// Of `tree`, whose folders take as many bytes as `folder_bytes` says: none for a root that lies elsewhere.
    pub(super) fn of(
        tree: &Tree<'_>,
        space: ClusterSpace,
        folder_bytes: impl Fn(usize) -> Result<u64, ComposeError>,
    ) -> Result<Self, ComposeError> {
        let is_folder = |number: &usize| {
            matches!(tree.items().get(*number).map(|item| &item.content), Some(TreeContent::Folder(_)))
        };
        let (folders, files): (Vec<usize>, Vec<usize>) = (ROOT..tree.len()).partition(is_folder);
        let order = [folders, files].concat();
        let mut runs = vec![ClusterRun::default(); tree.len()];
        let mut next = u64::from(space.first);
        for (number, run) in order.iter().filter_map(|number| Some((*number, tree.items().get(*number)?))) {
            let bytes = match &run.content {
                TreeContent::Folder(_) => folder_bytes(number)?,
                TreeContent::File(bytes) => bytes.size(),
            };
            let count = bytes.div_ceil(space.cluster.max(1));
            let first = if count > 0 { next } else { 0 };
            next = next.saturating_add(count);
            // What lies too far is told below.
            if let (Some(run), Ok(first), Ok(count)) =
                (runs.get_mut(number), u32::try_from(first), u32::try_from(count))
            {
                *run = ClusterRun { first, count };
            }
        }
        let bytes = |end: u64| end.saturating_sub(u64::from(space.first)).saturating_mul(space.cluster);
        match u32::try_from(next) {
            Ok(next) if next <= space.end => Ok(Self { runs, order, next }),
            _ => Err(ComposeError::Room { bytes: bytes(next), room: bytes(u64::from(space.end)) }),
        }
    }

    /// Of one file or folder.
    pub(super) fn run(&self, number: usize) -> ClusterRun {
        self.runs.get(number).copied().unwrap_or_default()
    }

    /// In the order in which they lie there, with their numbers.
    pub(super) fn in_order(&self) -> impl Iterator<Item = (usize, ClusterRun)> {
        self.order.iter().map(|number| (*number, self.run(*number)))
    }
}
