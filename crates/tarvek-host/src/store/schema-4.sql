-- A survey, version 4, as it is still read.
PRAGMA application_id = 0x54525653; -- "TRVS"

CREATE TABLE survey (
  key TEXT PRIMARY KEY,   -- host, taken, uid, kernel, state ('partial' or 'complete'), made_by, edition, dense
  value TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE entry (
  id INTEGER PRIMARY KEY, -- 0 is the root folder
  parent INTEGER NOT NULL,
  name BLOB NOT NULL,     -- exact bytes
  type TEXT NOT NULL,     -- d f l p s b c, as find(1) prints them
  mode INTEGER NOT NULL,  -- the twelve permission bits
  uid INTEGER NOT NULL,
  gid INTEGER NOT NULL,
  size INTEGER NOT NULL,  -- bytes
  allocated INTEGER,      -- bytes
  inode INTEGER,
  device INTEGER,         -- major << 32 | minor
  links INTEGER NOT NULL,
  mtime INTEGER NOT NULL, -- nanoseconds since 1970 UTC
  ctime INTEGER,
  flags TEXT,             -- '' or i, a, ia; NULL where the filesystem does not say
  listing TEXT,           -- folders: complete, failed; NULL if nobody looked into it
  target BLOB,            -- symlinks
  extras INTEGER          -- ACLs, label and project
);

CREATE TABLE extras (
  id INTEGER PRIMARY KEY,
  acl TEXT,               -- user::rwx,user:840:r-x,…
  default_acl TEXT,
  nfs4_acl BLOB,          -- XDR, as the filesystem hands it out
  label BLOB,             -- SELinux
  project INTEGER,        -- NULL where nobody could ask
  inherits INTEGER        -- whether a folder's new entries join its project
);

CREATE TABLE content (    -- of files whose digest was asked for
  entry INTEGER PRIMARY KEY REFERENCES entry (id) ON DELETE CASCADE,
  blake3 BLOB NOT NULL,
  changed INTEGER,        -- the ctime that the file had; a digest counts while that is still so
  head INTEGER,           -- of its first bytes, and of some others: what a sample is compared with where only the ctime has moved
  ends INTEGER
);

CREATE TABLE media (      -- of media files whose headers were asked for; no track where one can't be read
  entry INTEGER PRIMARY KEY REFERENCES entry (id) ON DELETE CASCADE,
  millis INTEGER, width INTEGER, height INTEGER, video TEXT, audio TEXT,
  tracks INTEGER NOT NULL,
  cut INTEGER             -- whether the file ends before what its header speaks of
);

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
