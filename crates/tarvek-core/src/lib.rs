//! The computation of Tarvek: from a declared layout and observed facts to routes, verdicts and
//! findings.
//!
//! No I/O, no interface: plain data in, plain data out. The rooms stand in an order, ground first;
//! each imports only those before it (`tests/architecture.rs` holds this):
//!
//! [`words`], [`kernel`], [`layout`] and [`facts`] (which do not know each other), [`site`],
//! [`route`], [`judge`], [`link`], [`scan`], [`forecast`], [`remedy`], [`waste`], [`used`],
//! [`rules`], [`check`]; and the side rooms over the layout: [`draft`] and [`adopt`].

pub mod adopt;
pub mod check;
pub mod draft;
pub mod facts;
pub mod forecast;
pub mod judge;
pub mod kernel;
pub mod layout;
pub mod link;
pub mod remedy;
pub mod route;
pub mod rules;
pub mod scan;
pub mod site;
#[cfg(test)]
mod tests;
pub mod used;
pub mod waste;
pub mod words;
