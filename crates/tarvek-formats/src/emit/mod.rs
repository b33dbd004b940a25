//! Real configuration from a layout, in open formats. Comments say which line of the layout each
//! part comes from. No password is ever written: where one is needed, a placeholder file that only
//! root may read says so. What a format can't say is refused with its place in the layout
//! ([`Unsayable`]); how each says what it can stands in `quote.rs`.

mod accounts;
mod clients;
mod compose;
mod exports;
mod mounts;
mod piece;
mod quadlet;
mod quote;
mod script;
mod smb;

pub use piece::{Emitted, Piece, Unsayable};

pub use accounts::accounts;
pub use clients::clients;
pub use compose::compose;
pub use exports::exports;
pub use mounts::{fstab, systemd};
pub use quadlet::quadlet;
pub use script::script;
pub use smb::smb;
