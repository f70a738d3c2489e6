//! Whole trees from a seed: folders of twenty C files, each a static library, with headers that include each other, options
//! that sources name, and programs that link the libraries of fifty folders.

use std::fmt::Write as _;
use std::path::Path;

/// Sources in a folder.
pub const FOLDER: usize = 20;
/// Options of a folder.
const OPTIONS: usize = 8;
/// Folders that one program links.
const LINKED: usize = 50;

/// Writes a tree of `files` C files below `root`. Returns how many folders it has.
///
/// # Errors
/// What the file system says.
pub fn write_tree(root: &Path, files: usize) -> std::io::Result<usize> {
    let folders = files.div_ceil(FOLDER);
    std::fs::create_dir_all(root.join("common"))?;
    std::fs::write(root.join("boltboard.toml"), root_board(folders))?;
    for index in 0..10 {
        let text = format!(
            "#ifndef COMMON_{index}\n#define COMMON_{index}\nextern int common_{index};\n#define ADD_{index}(x) ((x) + {index})\n#endif\n"
        );
        std::fs::write(root.join(format!("common/common{index}.h")), text)?;
    }
    for folder in 0..folders {
        write_folder(root, folder, folders, files)?;
    }
    Ok(folders)
}

fn name(folder: usize) -> String {
    format!("area{}/room{folder}", folder / LINKED)
}

fn root_board(folders: usize) -> String {
    let mut text = String::from(
        "format = 1\n[tree]\nname = \"large\"\nversion = \"1\"\nmore = [\"*/*/boltboard.toml\"]\n\
         [toolchain]\nflags = [\"-O1\"]\n[header.options]\noutput = \"large/options.h\"\nprefix = \"L_\"\n",
    );
    for program in 0..folders.div_ceil(LINKED) {
        let used: Vec<String> =
            (program * LINKED..folders.min((program + 1) * LINKED)).map(|f| format!("\"room{f}\"")).collect();
        let _ = write!(
            text,
            "[part.prog{program}]\nkind = \"program\"\nsources = [\"area{program}/main.c\"]\nuses = [{}]\n",
            used.join(", ")
        );
    }
    text
}

fn write_folder(root: &Path, folder: usize, folders: usize, files: usize) -> std::io::Result<()> {
    let place = root.join(name(folder));
    std::fs::create_dir_all(&place)?;
    let mut board = format!(
        "[part.room{folder}]\nkind = \"static-library\"\nsources = [\"*.c\"]\npublic-include = [\".\"]\ninclude = [\"../../common\"]\n"
    );
    for option in 0..OPTIONS {
        let _ = write!(
            board,
            "[option.o{folder}-{option}]\nkind = \"switch\"\nsummary = \"option {option} of room {folder}\"\n"
        );
        if option % 3 == 0 {
            board.push_str("default = \"on\"\n");
        }
    }
    std::fs::write(place.join("boltboard.toml"), board)?;
    for half in ["a", "b"] {
        let guard = format!("ROOM_{folder}_{half}");
        let more = if half == "b" { format!("#include \"room{folder}_a.h\"\n") } else { String::new() };
        let text = format!("#ifndef {guard}\n#define {guard}\n{more}int room{folder}_{half}(int);\n#endif\n");
        std::fs::write(place.join(format!("room{folder}_{half}.h")), text)?;
    }
    let count = FOLDER.min(files - folder * FOLDER);
    for file in 0..count {
        let mut text = String::from("#include <large/options.h>\n");
        for common in 0..4 {
            let _ = writeln!(text, "#include \"common{}.h\"", (file + common * 3) % 10);
        }
        let _ = writeln!(text, "#include \"room{folder}_b.h\"");
        for option in [file % OPTIONS, (file / 2) % OPTIONS] {
            let _ = write!(
                text,
                "#ifdef L_O{folder}_{option}\nint r{folder}_f{file}_o{option}_{}(int x) {{ return x * {file}; }}\n#endif\n",
                text.len()
            );
        }
        let _ = writeln!(
            text,
            "int r{folder}_f{file}(int x) {{\n    for (int i = 0; i < x; i++) x += ADD_{}(i) ^ {folder};\n    return x;\n}}",
            file % 10
        );
        std::fs::write(place.join(format!("f{file}.c")), text)?;
    }
    if folder.is_multiple_of(LINKED) {
        let mut text = String::new();
        let range = folder..folders.min(folder + LINKED);
        range.clone().for_each(|f| {
            let _ = writeln!(text, "int r{f}_f0(int);");
        });
        text.push_str("int main(int n, char **v) {\n    (void)v;\n");
        range.for_each(|f| {
            let _ = writeln!(text, "    n += r{f}_f0(n);");
        });
        text.push_str("    return n;\n}\n");
        std::fs::write(root.join(format!("area{}/main.c", folder / LINKED)), text)?;
    }
    Ok(())
}
