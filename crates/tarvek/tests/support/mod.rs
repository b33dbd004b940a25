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
