//! The live machine: what this host is and what lies on it. Nothing here judges, and nothing here changes anything.

mod acl;
pub mod observe;
pub mod walk;
