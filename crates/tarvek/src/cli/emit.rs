//! The command line of `emit`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

#[derive(Debug, Args)]
pub(crate) struct EmitArgs {
    /// What to write
    #[arg(value_enum, value_name = "WHAT")]
    pub(crate) what: Emitted,
    /// For which host; needed where several have something to write
    #[arg(long, value_name = "NAME")]
    pub(crate) host: Option<String>,
    /// A folder to write the files into; standard output unless given. Files that are there already
    /// stay
    #[arg(short, long, value_name = "DIR")]
    pub(crate) output: Option<PathBuf>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Emitted {
    /// Containers of a host, as a Compose file
    Compose,
    /// Containers of a host, as units that Podman makes systemd services of
    Quadlet,
    /// Lines for fstab
    Fstab,
    /// Mount and automount units
    Systemd,
    /// Lines for the exports of an NFS server
    Exports,
    /// Stanzas for an SMB server's smb.conf
    Smb,
    /// Commands that make accounts and groups
    Accounts,
    /// A script that makes datasets and folders with their owners, modes and ACLs
    Script,
    /// What to type on clients
    Clients,
}
