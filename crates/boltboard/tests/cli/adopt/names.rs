//! Parts whose files have one name.

use super::Yard;

/// A yard in which two programs and two libraries are each called alike.
fn yard() -> Yard {
    let yard = Yard::quay();
    for folder in ["client", "server"] {
        yard.scratch.write(&format!("quay/{folder}/tool.c"), "int main(void) { return 0; }\n");
        yard.scratch.write(&format!("quay/{folder}/wire.c"), &format!("int {folder}_wire(void) {{ return 1; }}\n"));
        yard.also(&format!(
            "cc -O2 -c {folder}/tool.c -o {folder}/tool.o\ncc {folder}/tool.o -o {folder}/tool\n\
             cc -O2 -c {folder}/wire.c -o {folder}/wire.o\nar rc {folder}/libwire.a {folder}/wire.o\n"
        ));
    }
    yard.watched().code(0);
    yard
}

#[test]
fn which_part_keeps_a_name_is_asked_and_the_others_are_called_after_their_folders() {
    let yard = yard();
    let questions = yard.run(&["adopt", "seen", "--json"]).code(0).json()["questions"].clone();
    assert!(questions.to_string().contains("{\"question\":\"names\",\"usual\":\"numbered\"}"), "{questions}");
    yard.run(&["adopt", "seen"]).code(0).says(&["client/tool, server/tool have one name"]);
    yard.run(&["adopt", "draw", "--answer", "names=tool"]).code(2).complains(&["the files that keep their names"]);
    let drawn = |into: &str, answer: &str| {
        let into = yard.scratch.at(into).display().to_string();
        yard.run(&["adopt", "draw", "--into", &into, "--answer", answer]).code(0);
        std::fs::read_to_string(std::path::Path::new(&into).join("boltboard.toml")).expect("drawn")
    };
    let names = |text: &str| -> Vec<String> {
        let heads = text.lines().filter_map(|line| line.strip_prefix("[part.")?.strip_suffix(']'));
        heads.filter(|name| name.contains("tool") || name.contains("wire")).map(str::to_string).collect()
    };
    let sorted = |text: &str| {
        let mut names = names(text);
        names.sort();
        names
    };
    // The safe answer, which says what is open.
    let into = yard.scratch.at("safe").display().to_string();
    yard.run(&["adopt", "draw", "--into", &into]).code(0);
    let text = yard.scratch.read("safe/boltboard.toml");
    assert!(text.contains("client/tool, server/tool have one name"), "{text}");
    assert_eq!(sorted(&text), ["libwire", "tool", "tool-2", "wire"]);
    drawn("wrong", "names=nowhere/tool");
    yard.run(&["adopt", "seen"]).code(0).says(&["nowhere/tool", "it is to keep its name"]);
    let folders = drawn("folders", "names=folders");
    assert_eq!(sorted(&folders), ["client-tool", "client-wire", "server-tool", "server-wire"]);
    let text = drawn("kept", "names=server/tool,server/libwire.a");
    assert_eq!(sorted(&text), ["client-tool", "client-wire", "tool", "wire"]);
    let kept = text.split("[part.tool]").nth(1).expect("it is there");
    assert!(kept.split("\n\n").next().is_some_and(|part| part.contains("server/tool.c")), "{kept}");
    assert!(!text.contains("have one name"), "{text}");
    // Whatever they are called, the objects are those of the build.
    yard.run(&["adopt", "prove", "--from", &yard.scratch.at("kept").display().to_string()])
        .code(0)
        .says(&["objects are the same"]);
}
