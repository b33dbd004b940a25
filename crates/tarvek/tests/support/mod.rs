//! A folder of its own for each test, and the built program in it.
#![allow(dead_code, unreachable_pub)] // each test binary uses a part of this

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::process::Output;

use assert_cmd::Command;
use tempfile::TempDir;

/// A temporary folder to run in.
pub struct Folder {
    dir: TempDir,
}

/// What came back.
pub struct Answer {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Folder {
    pub fn new() -> Self {
        Self { dir: tempfile::tempdir().unwrap() }
    }

    /// A folder with the demo site in it.
    pub fn demo() -> Self {
        let folder = Self::new();
        for name in ["tarvek.toml", "roots.toml", "granary.listing", "millrace.listing"] {
            let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/demo").join(name);
            std::fs::copy(source, folder.path(name)).unwrap();
        }
        folder
    }

    /// The demo site with all its faults mended.
    pub fn healthy() -> Self {
        let folder = Self::demo();
        folder
            .edit(
                "tarvek.toml",
                "  { name = \"Evenings\", kind = \"home-video\", roots = [\"/evenings\"] },\n",
                "",
            )
            .edit("tarvek.toml", "/media/Music", "/media/music")
            .edit("tarvek.toml", "roots = [\"/books\"]", "roots = [\"/media/books\"]")
            .edit(
                "tarvek.toml",
                "reels\"], original = true",
                "reels\"], original = true, backup \
                = \"rill\"",
            )
            .edit(
                "tarvek.toml",
                "from = \"/loft/media/intake\", to = \"/downloads\"",
                "from \
                = \"/loft/media\", to = \"/data\"",
            )
            .edit("tarvek.toml", "  { from = \"/loft/media/series\", to = \"/series\" },\n", "")
            .edit(
                "tarvek.toml",
                "translate = [{ service = \"drover\", from = \"/data/intake\", to \
                                  = \"/downloads\" }]\n",
                "",
            )
            .edit("tarvek.toml", "reads = \"/downloads/", "reads = \"/data/intake/")
            .edit("tarvek.toml", "files_into = \"/series\"", "files_into = \"/data/series\"")
            .edit("tarvek.toml", "umask = \"022\"", "umask = \"002\"")
            .edit("granary.listing", "|f 0644 844 2200", "|f 0664 844 2200")
            .edit("granary.listing", "948656668 948657152 98 1", "948656668 948657152 59 2")
            .edit(
                "granary.listing",
                "|f 0664 1101 2100 948656668 948657152 59 1",
                "|f 0664 841 \
                2200 948656668 948657152 59 2",
            )
            .edit("granary.listing", "|d 0750 1101 2100", "|d 0755 1101 2100")
            .edit("granary.listing", "|f 0640 1101 2100", "|f 0644 1101 2100")
            .edit(
                "millrace.listing",
                "end mountinfo",
                "|72 22 0:62 / /mnt/granary/archive ro - nfs4 granary.lan:/loft/archive ro\nend \
                 mountinfo",
            );
        folder
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) -> &Self {
        let path = self.path(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
        self
    }

    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap()
    }

    /// Replaces a text that has to be there.
    pub fn edit(&self, name: &str, from: &str, to: &str) -> &Self {
        let text = self.read(name);
        assert!(text.contains(from), "{name} has no {from:?}");
        self.write(name, text.replace(from, to))
    }

    pub fn command<S: AsRef<OsStr>>(&self, arguments: impl IntoIterator<Item = S>) -> Command {
        let mut command = Command::cargo_bin("tarvek").unwrap();
        command.current_dir(self.dir.path()).env_remove("NO_COLOR").env("LC_ALL", "C.UTF-8");
        command.env("TARVEK_NOW", "1795334400");
        // The running total of whoever runs the tests is theirs.
        command.env("XDG_STATE_HOME", self.dir.path().join("state"));
        command.args(arguments);
        command
    }

    pub fn output<S: AsRef<OsStr>>(&self, arguments: impl IntoIterator<Item = S>) -> Output {
        self.command(arguments).output().unwrap()
    }

    /// Runs `tarvek` with arguments that are split at spaces.
    pub fn run(&self, arguments: &str) -> Answer {
        let output = self.output(arguments.split_whitespace());
        Answer {
            code: output.status.code().unwrap(),
            stdout: String::from_utf8(output.stdout).unwrap(),
            stderr: String::from_utf8(output.stderr).unwrap(),
        }
    }

    /// The JSON answer of a command.
    pub fn json(&self, arguments: &str) -> serde_json::Value {
        let answer = self.run(&format!("{arguments} --format json"));
        serde_json::from_str(&answer.stdout).unwrap_or_else(|_| panic!("{}", answer.stderr))
    }
}

impl Answer {
    /// Exit code and both streams, as a snapshot holds them.
    pub fn whole(&self) -> String {
        format!("exit code {}\n--- stdout\n{}--- stderr\n{}", self.code, self.stdout, self.stderr)
    }
}
