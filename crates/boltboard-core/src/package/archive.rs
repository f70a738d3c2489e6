//! The archives that packages are made of: `tar` by crate `tar`, always with the same bytes for the same input.

use std::collections::BTreeSet;
use std::io::Write;
use std::path::{Path, PathBuf};

use tar::{Builder, EntryType, Header};

use super::contents::{Packed, PackedFile};
use crate::base::{Epoch, FileError};

/// Permission bits of the folders on the way.
const FOLDER_MODE: u32 = 0o755;

/// Writes an archive of files, with the folders on the way to them. Everything belongs to the administrator but empty folders that
/// are given to someone, and is of one time. `seen` is told what is in each file.
pub(super) fn write_files(
    files: &[PackedFile],
    epoch: Epoch,
    out: impl Write,
    seen: &mut dyn FnMut(&Path, &[u8]),
) -> Result<(), FileError> {
    let mut builder = Builder::new(out);
    let mut made = BTreeSet::new();
    for file in files {
        let mut above: Vec<&Path> = file.path.ancestors().skip(1).filter(|folder| folder.parent().is_some()).collect();
        above.reverse();
        for folder in above {
            if made.insert(folder.to_path_buf()) {
                let mut header = plain(EntryType::Directory, FOLDER_MODE, epoch);
                append(&mut builder, &mut header, &below(folder, true), &[], &file.path)?;
            }
        }
        match &file.packed {
            Packed::File { source, mode, .. } => {
                let content = std::fs::read(source).map_err(FileError::on("read", source))?;
                seen(&file.path, &content);
                let mut header = plain(EntryType::Regular, *mode, epoch);
                header.set_size(content.len() as u64);
                append(&mut builder, &mut header, &below(&file.path, false), &content, source)?;
            }
            Packed::Link(to) => {
                let mut header = plain(EntryType::Symlink, 0o777, epoch);
                let at = below(&file.path, false);
                builder.append_link(&mut header, &at, to).map_err(FileError::on("pack", &file.path))?;
            }
            Packed::Folder { mode, owner } => {
                if !made.insert(file.path.clone()) {
                    continue;
                }
                let mut header = plain(EntryType::Directory, *mode, epoch);
                if let Some(owner) = owner {
                    let (user, group) =
                        owner.split_once(':').map_or((owner.as_str(), ""), |(user, group)| (user, group));
                    let named = [(user, true), (group, false)].into_iter().filter(|(name, _)| !name.is_empty());
                    for (name, is_user) in named {
                        let set = if is_user { header.set_username(name) } else { header.set_groupname(name) };
                        set.map_err(FileError::on("pack", &file.path))?;
                    }
                }
                append(&mut builder, &mut header, &below(&file.path, true), &[], &file.path)?;
            }
        }
    }
    builder.finish().map_err(FileError::on("pack", Path::new("/")))
}

/// Writes an archive of texts, without folders.
pub(super) fn write_texts(texts: &[(&str, String, u32)], epoch: Epoch, out: impl Write) -> Result<(), FileError> {
    let mut builder = Builder::new(out);
    for (name, text, mode) in texts {
        let mut header = plain(EntryType::Regular, *mode, epoch);
        header.set_size(text.len() as u64);
        append(&mut builder, &mut header, name, text.as_bytes(), Path::new(name))?;
    }
    builder.finish().map_err(FileError::on("pack", Path::new("/")))
}

fn plain(kind: EntryType, mode: u32, epoch: Epoch) -> Header {
    let mut header = Header::new_gnu();
    header.set_entry_type(kind);
    header.set_mode(mode);
    header.set_uid(0);
    header.set_gid(0);
    header.set_size(0);
    header.set_mtime(epoch.seconds());
    // Names that are short and plain: they fit.
    let _ = header.set_username("root");
    let _ = header.set_groupname("root");
    header
}

fn append(
    builder: &mut Builder<impl Write>,
    header: &mut Header,
    at: &str,
    content: &[u8],
    shown: &Path,
) -> Result<(), FileError> {
    builder.append_data(header, at, content).map_err(FileError::on("pack", shown))
}

/// A path as archives name it.
fn below(path: &Path, is_folder: bool) -> String {
    let rest: PathBuf = path.strip_prefix("/").unwrap_or(path).to_path_buf();
    format!("{}{}", rest.display(), if is_folder { "/" } else { "" })
}
