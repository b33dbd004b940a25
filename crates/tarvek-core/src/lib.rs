//! The computation of Tarvek: from a declared layout and observed facts to routes, verdicts and findings.
//!
//! No I/O, no interface: plain data in, plain data out. Data flows one way: facts and layout are joined ([`site`]), paths are
//! followed ([`route`]), needs are judged ([`access`]), rules make findings ([`rules`]), and [`check`] puts the
//! board together.

pub mod access;
pub mod acl;
pub mod check;
pub mod compare;
pub mod draft;
pub mod facts;
pub mod identity;
pub mod layout;
pub mod library;
pub mod needs;
pub mod newfile;
pub mod nfs4;
pub mod object;
pub mod party;
pub mod path;
pub mod remedy;
pub mod rights;
pub mod route;
pub mod rules;
pub mod secret;
pub mod site;
pub mod smb;
pub mod text;
