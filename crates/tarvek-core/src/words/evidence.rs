//! How something is known.

use super::word::words;

words! {
    /// How something is known, the weakest first.
    #[derive(PartialOrd, Ord)]
    pub enum Evidence {
        /// Only a layout says so.
        Declared = "declared",
        /// A look at the host saw it.
        Observed = "observed",
        /// Tarvek just did it.
        Proven = "proven",
    }
}
