//! `share/*`: what a host offers.

pub mod child_dataset_hidden;
