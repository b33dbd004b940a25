//! Showing answers. Judgement is done before; nothing here decides anything.

pub(crate) mod access;
pub(crate) mod adopt;
pub(crate) mod apply;
pub(crate) mod board;
pub(crate) mod compare;
pub(crate) mod csv;
pub(crate) mod draft;
pub(crate) mod explain;
pub(crate) mod forecast;
pub(crate) mod json;
pub(crate) mod link;
pub(crate) mod mistakes;
pub(crate) mod names;
pub(crate) mod reclaim;
pub(crate) mod review;
mod screen;
pub(crate) mod steps;
pub(crate) mod style;
pub(crate) mod trace;
pub(crate) mod waste;
pub(crate) mod wrap;

pub(crate) use screen::{Screen, Volume};
