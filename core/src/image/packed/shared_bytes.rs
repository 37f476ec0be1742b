//! Packed bytes, as several threads read them.

use std::sync::Arc;

use crate::bytes::ReadAt;

/// Bytes that several threads may read, and that outlive the one who opened them.
pub type SharedBytes = Arc<dyn ReadAt + Send + Sync>;
