//! The readiness board and the findings.

pub mod apply;
pub mod board;
pub mod outlook;
pub mod report;
