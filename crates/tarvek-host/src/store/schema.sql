-- A survey, version 1. docs/survey.md describes it.
PRAGMA application_id = 0x54525653; -- "TRVS"

CREATE TABLE survey (
  key TEXT PRIMARY KEY,   -- host, taken, uid, kernel, state ('partial' or 'complete'), made_by, edition
  value TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE folder (     -- what was seen in one folder
  id INTEGER PRIMARY KEY, -- its number << 16 | number of the part; folder 0 holds the root alone, under an empty name
  listing TEXT,           -- complete, failed; NULL if nobody looked into it
  project INTEGER,        -- of the folder itself; NULL where nobody could ask
  inherits INTEGER,       -- whether its new entries join its project
  entries TEXT NOT NULL   -- JSON, sorted by name: [[name, class, size, allocated, inode, links, mtime, ctime - mtime, own], …]
);

CREATE TABLE class (      -- what many entries have alike
  id INTEGER PRIMARY KEY,
  type TEXT NOT NULL,     -- d f l p s b c, as find(1) prints them
  mode INTEGER NOT NULL,  -- the twelve permission bits
  uid INTEGER NOT NULL,
  gid INTEGER NOT NULL,
  device INTEGER,         -- major << 32 | minor
  flags TEXT,             -- '' or i, a, ia; NULL where the filesystem does not say
  extras INTEGER          -- ACLs, label and project
);

CREATE TABLE extras (
  id INTEGER PRIMARY KEY,
  acl TEXT,               -- user::rwx,user:840:r-x,…
  default_acl TEXT,
  nfs4_acl BLOB,          -- XDR, as the filesystem hands it out
  label BLOB,             -- SELinux
  project INTEGER,        -- of a file; NULL where nobody could ask
  inherits INTEGER
);

CREATE TABLE content (    -- of files whose digest was asked for
  folder INTEGER NOT NULL,
  name BLOB NOT NULL,
  blake3 BLOB NOT NULL,
  changed INTEGER,        -- the ctime that the file had; a digest counts while that is still so
  head INTEGER,           -- of its first bytes, and of some others: what a sample is compared with where only the ctime has moved
  ends INTEGER,
  PRIMARY KEY (folder, name)
) WITHOUT ROWID;

CREATE TABLE media (      -- of media files whose headers were asked for; no track where one can't be read
  folder INTEGER NOT NULL,
  name BLOB NOT NULL,
  millis INTEGER, width INTEGER, height INTEGER, video TEXT, audio TEXT,
  tracks INTEGER NOT NULL,
  cut INTEGER,            -- whether the file ends before what its header speaks of
  PRIMARY KEY (folder, name)
) WITHOUT ROWID;

CREATE TABLE root (path BLOB NOT NULL, deep INTEGER NOT NULL);
CREATE TABLE gap (path BLOB NOT NULL, why TEXT NOT NULL);

CREATE TABLE mount (
  id INTEGER NOT NULL, parent INTEGER NOT NULL, major INTEGER NOT NULL, minor INTEGER NOT NULL,
  root BLOB NOT NULL, point BLOB NOT NULL, options TEXT NOT NULL, propagation TEXT NOT NULL,
  filesystem TEXT NOT NULL, source BLOB NOT NULL, super_options TEXT NOT NULL
);
CREATE TABLE fstab (source TEXT NOT NULL, point BLOB NOT NULL, filesystem TEXT NOT NULL, options TEXT NOT NULL);
CREATE TABLE account (name TEXT NOT NULL, uid INTEGER NOT NULL, gid INTEGER, groups TEXT NOT NULL);
CREATE TABLE grp (name TEXT NOT NULL, gid INTEGER NOT NULL);
CREATE TABLE document (name TEXT PRIMARY KEY, text TEXT NOT NULL) WITHOUT ROWID;
