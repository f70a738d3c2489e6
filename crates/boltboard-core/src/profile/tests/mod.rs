mod reshaped;

use super::*;
use crate::board::{Board, Value};
use crate::testing::TestTree;

fn board() -> Board {
    TestTree::board_only(
        "[option.fog]\nkind = \"switch\"\n[option.depth]\nkind = \"number\"\nrange = [1, 9]\n[option.winds]\nkind = \"words\"\n[option.name]\nkind = \"text\"\n",
    )
}

struct Shelves {
    folder: tempfile::TempDir,
    shelf: Shelf,
}

impl Shelves {
    fn new(profiles: &[(&str, &str)]) -> Shelves {
        let folder = tempfile::tempdir().expect("a folder");
        let shelf = Shelf { own: folder.path().join("own"), shipped: folder.path().join("shipped"), aside: None };
        for (path, text) in profiles {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().expect("a parent")).expect("made");
            std::fs::write(path, format!("format = 1\ntree = \"t\"\ntree-version = \"1\"\n{text}")).expect("written");
        }
        Shelves { folder, shelf }
    }

    fn read(&self, name: &str) -> Result<Choices, Vec<String>> {
        let read = self.shelf.read(&named(name), &board());
        read.map_err(|wrong| wrong.problems.iter().map(|p| p.fault.to_string()).collect())
    }
}

fn named(name: &str) -> ProfileName {
    ProfileName::parse(name).expect("a name")
}

fn values(choices: &Choices) -> Vec<String> {
    let board = board();
    choices
        .items
        .iter()
        .map(|c| format!("{}={} from {}", board.options[c.option].name, c.value, choices.layers[c.layer].name))
        .collect()
}

#[test]
fn names_are_file_names_everywhere() {
    for good in ["mine", "a.b-c_d", "2nd"] {
        assert!(ProfileName::parse(good).is_some(), "{good}");
    }
    for bad in ["", ".hidden", "a/b", "..", "a b", "-x", "é"] {
        assert!(ProfileName::parse(bad).is_none(), "{bad}");
    }
}

#[test]
fn earlier_layers_are_weaker_and_the_profile_itself_is_strongest() {
    let shelves = Shelves::new(&[
        ("shipped/low.toml", "[choose]\nfog = \"on\"\ndepth = 1\nname = \"low\"\n"),
        ("shipped/high.toml", "[choose]\ndepth = 2\nname = \"high\"\n"),
        ("own/top.toml", "base = [\"low\", \"high\"]\n[choose]\nname = \"top\"\n[reasons]\nname = \"mine\"\n"),
    ]);
    let choices = shelves.read("top").expect("read");
    assert_eq!(values(&choices), ["fog=on from low", "depth=2 from high", "name=top from top"]);
    assert_eq!(choices.items[2].reason.as_deref(), Some("mine"));
    let place = choices.files.excerpt(choices.items[1].place);
    assert_eq!((place.line, place.text.as_str()), (5, "depth = 2"));
}

#[test]
fn one_s_own_hides_a_shipped_one_of_the_same_name() {
    let shelves = Shelves::new(&[("shipped/p.toml", "[choose]\ndepth = 1\n"), ("own/p.toml", "[choose]\ndepth = 9\n")]);
    assert_eq!(values(&shelves.read("p").expect("read")), ["depth=9 from p"]);
    let list = shelves.shelf.list().expect("listed");
    assert_eq!(list.into_iter().collect::<Vec<_>>(), [(named("p"), ProfileSource::Own)]);
    assert!(Shelves::new(&[]).shelf.list().expect("no folders").is_empty());
}

#[test]
fn everything_that_is_wrong_is_told_at_once() {
    let shelves = Shelves::new(&[
        ("own/p.toml", "base = [\"nobody\", 3]\nextra = 1\n[choose]\nfgo = \"on\"\ndepth = 12\nfog = 1\n"),
        ("own/ring.toml", "base = [\"gnir\"]\n"),
        ("own/gnir.toml", "base = [\"ring\"]\n"),
    ]);
    assert_eq!(
        shelves.read("p").expect_err("wrong"),
        [
            "a profile has no key `extra`",
            "there is no profile `nobody`",
            "`base` must be a list of profile names",
            "there is no option `fgo`",
            "depth does not accept `12`; it accepts a whole number from 1 to 9",
            "`fog` must be a value in quotes; numbers stand alone, lists of words in brackets",
        ]
    );
    assert_eq!(shelves.read("ring").expect_err("a ring"), ["profile `ring` is a layer of itself"]);
    assert_eq!(shelves.read("none").expect_err("absent"), ["there is no profile `none`"]);
}

#[test]
fn a_change_can_be_read_before_it_is_saved() {
    let shelves = Shelves::new(&[("own/p.toml", "[choose]\ndepth = 1\n")]);
    let text = "format = 1\ntree = \"t\"\n[choose]\ndepth = 5\n";
    let choices = shelves.shelf.read_as(&named("p"), Some(text), &board()).expect("read");
    assert_eq!(values(&choices), ["depth=5 from p"]);
    assert_eq!(values(&shelves.read("p").expect("read")), ["depth=1 from p"]);
}

#[test]
fn choices_for_once_are_strongest_and_checked() {
    let shelves = Shelves::new(&[("own/p.toml", "[choose]\ndepth = 1\n")]);
    let tried = |words: &[&str]| {
        let words: Vec<String> = words.iter().map(|w| (*w).to_string()).collect();
        shelves.read("p").expect("read").with_tried(&board(), &words).map(|c| values(&c)).map_err(|e| e.to_string())
    };
    assert_eq!(
        tried(&["depth=4", "fog = on"]),
        Ok(vec!["fog=on from command line".into(), "depth=4 from command line".into()])
    );
    assert_eq!(tried(&[]), Ok(vec!["depth=1 from p".into()]));
    assert_eq!(tried(&["depth"]), Err("`depth` is not OPTION=VALUE".into()));
    assert_eq!(tried(&["dpth=3"]), Err("there is no option `dpth`".into()));
}

#[test]
fn writing_keeps_what_it_does_not_change() {
    let shelves = Shelves::new(&[]);
    let path = shelves.folder.path().join("own/p.toml");
    let board = board();
    let mut file = ProfileFile::new(&path, &board.tree, &[named("low")]);
    file.set("winds", &Value::Words(vec!["north".into(), "west".into()]), None);
    file.set("depth", &Value::Number(4), Some("it is \"deep\""));
    file.save().expect("saved");
    let text = std::fs::read_to_string(&path).expect("there");
    assert_eq!(
        text,
        "format = 1\ntree = \"t\"\ntree-version = \"1\"\nbase = [\"low\"]\n\n[choose]\nwinds = [\"north\", \"west\"]\ndepth = 4\n\n[reasons]\ndepth = 'it is \"deep\"'\n"
    );
    let edited = text.replace("depth = 4", "depth   =  4   # sounded");
    std::fs::write(&path, &edited).expect("edited by hand");
    let mut file = ProfileFile::open(&path).expect("readable").expect("there");
    file.set("depth", &Value::Number(5), None);
    assert_eq!(file.text(), edited.replace("4   #", "5   #"));
    assert!(file.unset("depth") && !file.unset("depth") && !file.text().contains("reasons"));
    assert_eq!(std::fs::read_to_string(&path).expect("there"), edited, "nothing is saved until it is asked for");
    assert!(ProfileFile::open(&shelves.folder.path().join("none")).expect("absent").is_none());
}

#[test]
fn providers_come_from_layers_and_keep_their_reasons() {
    let board = TestTree::board_only(
        "[need.tide]\nheader = \"tide.h\"\nbundled = \"own\"\n[need.bell]\nheader = \"bell.h\"\n[part.own]\nkind = \"static-library\"\nsources = [\"t.c\"]\n",
    );
    let folder = tempfile::tempdir().expect("a folder");
    let shelf = Shelf { own: folder.path().join("own"), shipped: folder.path().join("shipped"), aside: None };
    let write = |path: &std::path::Path, text: &str| {
        std::fs::create_dir_all(path.parent().expect("a parent")).expect("made");
        std::fs::write(path, format!("format = 1\ntree = \"t\"\n{text}")).expect("written");
    };
    let name = |text: &str| ProfileName::parse(text).expect("a name");
    let below = "[providers]\ntide = \"system\"\nbell = \"off\"\n[reasons]\n\"need:bell\" = \"too loud\"\n";
    write(&shelf.shipped.join("below.toml"), below);
    write(&shelf.own_path(&name("mine")), "base = [\"below\"]\n[providers]\ntide = \"bundled\"\n");
    // Facts that lie beside a profile are no profile.
    write(&shelf.host_path(&name("mine")), "");
    assert_eq!(shelf.list().expect("listed").len(), 2);
    let told = |choices: &Choices| -> Vec<String> {
        let one = |(need, chosen): (&crate::board::NeedId, &ProviderChoice)| {
            let layer = &choices.layers[chosen.layer].name;
            let reason = chosen.reason.as_deref().unwrap_or("-");
            format!("{}={} {layer} {reason}", board.needs[*need].name, chosen.provider.text(&board))
        };
        choices.providers.iter().map(one).collect()
    };
    let choices = shelf.read(&name("mine"), &board).expect("it is read");
    assert_eq!(told(&choices), ["tide=bundled mine -", "bell=off below too loud"]);
    let tried = choices.with_tried(&board, &["need:bell=system".into()]).expect("tried");
    assert_eq!(told(&tried)[1], "bell=system command line -");
    let mut file = ProfileFile::open(&shelf.own_path(&name("mine"))).expect("opened").expect("there");
    file.set_provider("bell", "/opt/bell", Some("our own"));
    file.unset_provider("tide");
    assert!(
        file.text().ends_with("[providers]\nbell = \"/opt/bell\"\n\n[reasons]\n\"need:bell\" = \"our own\"\n"),
        "{}",
        file.text()
    );
    assert!(file.unset_provider("bell") && !file.unset_provider("bell"));
    assert!(!file.text().contains("providers") && !file.text().contains("reasons"), "{}", file.text());
    for (text, want) in [
        ("[providers]\ntied = \"system\"\n", "there is no need `tied`"),
        ("[providers]\nbell = \"bundled\"\n", "`bell` cannot be met by `bundled`"),
        ("[providers]\nbell = 3\n", "`bell` must be a string such as \"system\""),
        ("providers = 3\n", "`providers` must be a table [providers]"),
        ("[reasons]\n\"need:bell\" = \"x\"\n", "there is a reason for `need:bell`, which is not chosen here"),
    ] {
        write(&shelf.own_path(&name("wrong")), text);
        let WrongProfile { problems, .. } = shelf.read(&name("wrong"), &board).expect_err(text);
        assert!(problems[0].fault.to_string().starts_with(want), "{text}: {}", problems[0].fault);
    }
}

proptest::proptest! {
    #![proptest_config(proptest::test_runner::Config::with_cases(60))]

    /// The definition of layers: each profile that is led to once, and above all that it is based on.
    #[test]
    fn each_layer_counts_once_above_all_its_bases(
        bases in proptest::collection::vec(proptest::collection::vec(1_usize..7, 0..4), 7),
    ) {
        // A profile is based on later ones, so that there is no ring.
        let bases: Vec<Vec<usize>> =
            bases.iter().enumerate().map(|(at, of)| of.iter().map(|step| at + step).filter(|one| *one < 7).collect()).collect();
        let text = |at: usize| {
            let names: Vec<String> = bases[at].iter().map(|one| format!("\"p{one}\"")).collect();
            format!("base = [{}]\n[choose]\nname = \"p{at}\"\n", names.join(", "))
        };
        let texts: Vec<(String, String)> = (0..7).map(|at| (format!("own/p{at}.toml"), text(at))).collect();
        let shelves = Shelves::new(&texts.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect::<Vec<_>>());
        let choices = shelves.read("p0").expect("it is sound");
        let layers: Vec<usize> =
            choices.layers.iter().map(|(_, layer)| layer.name[1..].parse().expect("a number")).collect();
        let mut led_to = vec![0];
        for at in 0.. {
            let Some(one) = led_to.get(at).copied() else { break };
            led_to.extend(bases[one].iter().filter(|base| !led_to.contains(base)).copied().collect::<std::collections::BTreeSet<_>>());
        }
        led_to.sort_unstable();
        let mut sorted = layers.clone();
        sorted.sort_unstable();
        proptest::prop_assert_eq!(sorted, led_to);
        let height = |one: usize| layers.iter().position(|layer| *layer == one);
        for one in &layers {
            proptest::prop_assert!(bases[*one].iter().all(|base| height(*base) < height(*one)), "{:?}", layers);
        }
        proptest::prop_assert_eq!(values(&choices), ["name=p0 from p0"]);
    }
}
