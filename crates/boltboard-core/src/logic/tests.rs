use super::*;
use crate::board::{Board, Linkage, Value};
use crate::expr::Op;
use crate::testing::TestTree;

fn board(text: &str) -> Board {
    TestTree::board_only(text)
}

/// What a condition says of each value that a shape can have, decided by its spelling.
fn holds(shape: &Shape, condition: &Condition, value: &Value) -> bool {
    let spelt = shape.spell(value);
    let known = |lit: Lit| match spelt.iter().find(|one| one.var() == lit.var()) {
        Some(one) if *one == lit => Truth::Yes,
        Some(_) => Truth::No,
        None => Truth::Open,
    };
    condition.truth(&known) == Truth::Yes
}

#[test]
fn every_comparison_is_spelt_as_values_compare() {
    let text = "[option.n]\nkind = \"number\"\nrange = [-3, 9]\n[option.m]\nkind = \"module\"\n[option.s]\nkind = \"switch\"\n\
                [option.p]\nkind = \"pick\"\nvalues = [\"x\", \"y\", \"z\"]\n\
                [option.user]\nkind = \"switch\"\nrequires = \"n = 4 or n != -3 or n < 2 or n <= 0 or n > 9 or n >= -3\"\n";
    let board = board(text);
    let logic = encode(&board);
    let all: [(&str, Vec<Value>); 4] = [
        ("n", (-3..=9).map(Value::Number).collect()),
        ("m", [Linkage::Off, Linkage::Loadable, Linkage::Builtin].map(Value::Module).to_vec()),
        (
            "s",
            ["off", "on"]
                .iter()
                .map(|text| board.options[board.option("s").unwrap()].kind.read(text).unwrap())
                .collect(),
        ),
        ("p", ["x", "y", "z"].iter().map(|text| Value::Pick((*text).to_string())).collect()),
    ];
    for (name, values) in all {
        let shape = logic.shape(board.option(name).expect("it is there"));
        // Only the bounds that the board draws have variables; a pick and a switch have no order.
        let ops: Vec<(Op, Value)> = match name {
            "n" => vec![
                (Op::Equal, Value::Number(4)),
                (Op::NotEqual, Value::Number(-3)),
                (Op::Less, Value::Number(2)),
                (Op::AtMost, Value::Number(0)),
                (Op::More, Value::Number(9)),
                (Op::AtLeast, Value::Number(-3)),
            ],
            "m" => Op::ALL.iter().flat_map(|op| values.iter().map(|value| (*op, value.clone()))).collect(),
            _ => [Op::Equal, Op::NotEqual].iter().flat_map(|op| values.iter().map(|v| (*op, v.clone()))).collect(),
        };
        for (op, with) in ops {
            let condition = shape.compares(op, &with);
            for value in &values {
                let want = value.compares(op, &with);
                assert_eq!(holds(shape, &condition, value), want, "{name}: {value} {} {with}", op.sign());
                assert_eq!(
                    holds(shape, &condition.opposite(), value),
                    !want,
                    "{name}: not {value} {} {with}",
                    op.sign()
                );
            }
        }
        // What is spelt is what the axioms of the shape allow.
        for value in &values {
            let spelt = shape.spell(value);
            let axioms = shape.axioms_among(&|_| true);
            assert!(axioms.iter().all(|axiom| axiom.iter().any(|lit| spelt.contains(lit))), "{name}: {value}");
        }
    }
}

#[test]
fn rules_wait_for_their_guard_and_keep_the_order_in_which_they_are_written() {
    let board = board(
        "[option.a]\nkind = \"module\"\nrequires = \"c or (b and d) or e\"\n[option.b]\nkind = \"module\"\n[option.c]\nkind = \"switch\"\n\
         [option.d]\nkind = \"switch\"\n[option.e]\nkind = \"switch\"\n",
    );
    let logic = encode(&board);
    let on = |name: &str| logic.shape(board.option(name).unwrap()).on().unwrap();
    let full = |name: &str| logic.shape(board.option(name).unwrap()).full().unwrap();
    let plain: Vec<ClauseId> = logic.guarded_by(on("a").var()).collect();
    let [clause] = plain.as_slice() else { panic!("one clause for the whole `or`: {plain:?}") };
    let literals = logic.literals(*clause);
    assert_eq!((literals[0], literals[1], literals[3]), (on("a").opposite(), on("c"), on("e")));
    assert_eq!(logic.owner(literals[2].var()), Owner::Several, "`b and d` is one way");
    let members: Vec<Lit> = logic.guarded_by(literals[2].var()).map(|clause| logic.literals(clause)[1]).collect();
    assert_eq!(members, [on("b"), on("d")]);
    // Built in, it asks for a built-in b.
    let strong: Vec<ClauseId> = logic.guarded_by(full("a").var()).collect();
    let ways = logic.literals(strong[0]);
    let members: Vec<Lit> = logic.guarded_by(ways[2].var()).map(|clause| logic.literals(clause)[1]).collect();
    assert_eq!(members, [full("b"), on("d")]);
    let rule = board.options[board.option("a").unwrap()].rules[0];
    assert_eq!(logic.clauses_of(board.option("a").unwrap(), rule).len(), 6, "two forks with two members each");
    assert_eq!(logic.rules_about(board.option("d").unwrap()).into_iter().collect::<Vec<_>>(), [rule]);
}

#[test]
fn the_solver_finds_names_what_is_to_blame_and_takes_what_it_is_told() {
    let board = board(
        "[option.a]\nkind = \"switch\"\nrequires = \"b\"\n[option.b]\nkind = \"switch\"\nconflicts = \"c\"\n[option.c]\nkind = \"switch\"\n[option.d]\nkind = \"switch\"\n",
    );
    let logic = encode(&board);
    let on = |name: &str| logic.shape(board.option(name).unwrap()).on().unwrap();
    let ids = || board.options.ids();
    let mut sat = Sat::new(&logic, ids(), Switchable::Fixed);
    assert_eq!(sat.solve(&[on("a")]), Ok(()));
    assert!(sat.holds(on("b")) && sat.holds(on("c").opposite()));
    let core = sat.solve(&[on("a"), on("d"), on("c")]).expect_err("a brings b, which excludes c").core();
    let core = core.expect("it is shown");
    assert!(core.contains(&on("a")) && core.contains(&on("c")) && !core.contains(&on("d")), "{core:?}");
    let both = sat.group(&[on("c"), on("d")]);
    assert_eq!(sat.solve(&[both]), Ok(()));
    assert!(sat.solve(&[both, on("a")]).is_err());
    sat.require_condition(&Condition::any([
        Condition::Lit(on("a")),
        Condition::all([Condition::Lit(on("c").opposite()), Condition::Lit(on("d"))]),
    ]));
    assert!(sat.solve(&[both]).is_err(), "neither a nor `not c and d` goes with c");
    // By rule, only what is assumed counts.
    let mut sat = Sat::new(&logic, ids(), Switchable::ByRule);
    let waits: Vec<Lit> = sat.rules().values().copied().collect();
    assert_eq!(waits.len(), 2);
    assert!(sat.solve(&[&waits[..], &[on("a"), on("c")]].concat()).is_err());
    assert_eq!(sat.solve(&[waits[0], on("a"), on("c")]), Ok(()));
    // What nothing touches is not taken in.
    let sat = Sat::new(&logic, [board.option("a").unwrap()], Switchable::Fixed);
    assert!(sat.knows(on("c").var()) && !sat.knows(on("d").var()));
}

#[test]
fn what_is_too_much_work_is_not_decided() {
    // Nine things that each need one of eight places of its own.
    let place = |thing: usize, place: usize| format!("p{thing}h{place}");
    let mut text = String::new();
    for (thing, at) in (0..9).flat_map(|thing| (0..8).map(move |at| (thing, at))) {
        let others: Vec<String> = (0..9).filter(|other| *other != thing).map(|other| place(other, at)).collect();
        text += &format!("[option.{}]\nkind = \"switch\"\nconflicts = \"{}\"\n", place(thing, at), others.join(" or "));
    }
    let each =
        (0..9).map(|thing| format!("\"{}\"", (0..8).map(|at| place(thing, at)).collect::<Vec<_>>().join(" or ")));
    text += &format!("[option.all]\nkind = \"switch\"\nrequires = [{}]\n", each.collect::<Vec<_>>().join(", "));
    let board = board(&text);
    let logic = encode(&board);
    let all = board.option("all").unwrap();
    let mut sat = Sat::new(&logic, [all], Switchable::Fixed);
    sat.limit(100);
    let on = logic.shape(all).on().unwrap();
    assert_eq!(sat.solve(&[on]), Err(Unsolved::Undecided));
    sat.limit(MOST_STEPS);
    assert_eq!(sat.solve(&[on]), Err(Unsolved::Core(vec![on])));
}
