//! Text that goes to people: what came from outside, words of commands, errors with their causes.

mod causes;
pub mod foreign;
pub mod shell;

pub use causes::{chain, plain};
pub use foreign::{Foreign, Shown};
