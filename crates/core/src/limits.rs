//! How much a file may ask for, in one table: far above what real ones hold, and far below what a
//! computer cannot give. `docs/safety.md` lists them.

/// Bytes of one file of a ledger's log.
pub const LEDGER: u64 = 256 << 20;
/// Bytes of a sheet, a job sheet, a pack's receipt.
pub const SHEET: u64 = 8 << 20;
/// Bytes of a list of names, a target's list or settings file, a template.
pub const LIST: u64 = 64 << 20;
/// Names in a list, an archive or a tree.
pub const NAMES: usize = 120_000;
/// Bytes of one file in an archive, once it is unpacked.
pub const MEMBER: u64 = 256 << 20;
/// Bytes of an archive's file that are worked on in memory; a larger one goes into a private file.
pub const IN_MEMORY: u64 = 16 << 20;
/// What an archive may inflate to beside `INFLATED` times its own size.
pub const INFLATED_AT_LEAST: u64 = 128 << 20;
/// How many times its own size an archive may inflate to.
pub const INFLATED: u64 = 100;
/// Bytes of a name in an archive.
pub const NAME: u64 = 4096;
/// Levels that lists, property lists and sheets nest.
pub const DEPTH: usize = 64;
/// Values in a property list, shared ones counted wherever they are used.
pub const VALUES: usize = 1_000_000;
/// Bytes of a text or value that a template is filled in to.
pub const FILLED: usize = 4 << 20;
/// Bytes of all files that a job makes, edits or carries beside its slots.
pub const BESIDE: u64 = 64 << 20;
/// Slots of a job or a pack.
pub const SLOTS: usize = 30_000;
/// Replacements of one job that are looked at once something is wrong with them.
pub const FAULTS: usize = 200;
/// Folders that a path within a root may lead through, and itself.
pub const LEVELS: usize = 32;
/// Bytes of one name in a path, as most file systems have it.
pub const NAME_BYTES: usize = 255;
/// Pixels of an icon, each way.
pub const PIXELS: u32 = 4096;
/// Bytes that a compiled pattern may take.
pub const PATTERN: usize = 1 << 18;
/// Characters of a pattern.
pub const PATTERN_TEXT: usize = 4096;
/// Patterns in a sheet.
pub const PATTERNS: usize = 2000;
/// Files that the patterns of caches may find.
pub const CACHES: usize = 10_000;
/// Folders that are looked into for ledgers below a folder.
pub const FOLDERS: usize = 20_000;

/// Files and folders of a root among which links are looked for.
pub const LINKS: usize = 50_000;
