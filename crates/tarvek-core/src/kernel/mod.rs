//! One entry, one asker: what a kernel decides. It knows no host, no tree and no layout, and
//! imports only `words`.

pub mod acl;
pub mod decide;
pub mod entry;
pub mod gate;
pub mod new_entry;
pub mod nfs4;
pub mod object;
pub mod request;
pub mod sticky;
pub mod subject;
