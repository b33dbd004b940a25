//! What files hold, as far as somebody needs it: digests of those that may be equal, and what keeps
//! their blocks.

mod cache;
mod examine;
mod extents;
mod mapped;
pub(crate) mod memory;
pub(crate) mod rounds;

pub use memory::{CacheLookup, Candidate, Memory, PartialDigests};

pub use cache::{Cache, Nowhere};
pub(crate) use examine::shared_of;
pub use examine::{Going, Holders, Snapshots, examine, shared_bytes};
pub use rounds::{Settled, settle};
