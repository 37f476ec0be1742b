//! One entry of a whole tree, whatever the file system.

use jiff::civil::DateTime;

use crate::volume::iso9660::Extent;

/// Something in a volume's tree, with all that is needed to lay it out elsewhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leaf {
    /// Where it lies in the tree: names with `/` between them.
    pub path: String,
    /// When it was changed last, by the clock of whoever did.
    pub modified: Option<DateTime>,
    /// What it is.
    pub kind: LeafKind,
}

/// What an entry of a tree is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LeafKind {
    /// A folder.
    Folder,
    /// A file, with the parts of the image that hold it, in their order.
    File(Vec<Extent>),
    /// A link, with the path that it has.
    Link(String),
    /// A device, a pipe.
    Special,
    /// What should be there and is not: the tree is damaged, or larger than is read.
    Lost(&'static str),
}
