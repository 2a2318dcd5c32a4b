//! Files in object stores that other people wrote: what each of them really promises.

use hypodoke_testkit::{PEER_KEYS, Peer, PeerStore, Run, Workshop, finish};
use rstest::rstest;

use crate::workshop;

fn begun(peer: Peer, place: &str) -> (Workshop, PeerStore) {
    let (shop, store) = (workshop(), PeerStore::start(peer));
    let text = format!(
        "[staging]\nurl = \"sqlite:h.db\"\n[place.yard]\npath = \"s3://quillane/cranes\"\nendpoint = \"{}\"\naccess_key = \"${{CRANE_KEY}}\"\nsecret_key = \"${{CRANE_SECRET}}\"\n{place}\n[feed.lift]\nplace = \"yard\"\nfiles = \"**/lift_*.csv\"\n",
        store.endpoint()
    );
    shop.write("hypodoke.toml", text);
    (shop, store)
}

fn run(shop: &Workshop, arguments: &str) -> Run {
    let mut command = shop.command(arguments);
    command.env("CRANE_KEY", PEER_KEYS.0).env("CRANE_SECRET", PEER_KEYS.1);
    finish(command)
}

#[track_caller]
fn ok(shop: &Workshop, arguments: &str) -> Run {
    let run = run(shop, arguments);
    assert_eq!(run.code, Some(0), "hypodoke {arguments}\n{}{}", run.out, run.err);
    run
}

#[rstest]
fn objects_are_loaded_once_and_again_when_they_change(#[values(Peer::Moto, Peer::Weed)] peer: Peer) {
    let (shop, store) = begun(peer, "");
    let rows: String = (0..700_000).map(|at| format!("{at},{}.25\n", at % 977)).collect();
    let large = format!("at,tonnes\n{rows}");
    store.put(&[
        ("cranes/lift_01.csv", b"at,tonnes\n1,2.5\n2,2.7\n"),
        ("cranes/north/lift ä+b&c.csv", b"at,tonnes\n3,2.9\n"),
        ("cranes/lift_large.csv", large.as_bytes()),
        ("cranes_other/lift_03.csv", b"at,tonnes\n9,9.9\n"),
    ]);
    let done = ok(&shop, "load");
    assert!(done.out.contains("2 files loaded, 700,002 rows"), "{}", done.out);
    assert!(done.out.contains("north/lift ä+b&c.csv: unmatched"), "{}", done.out);
    assert!(ok(&shop, "load").out.contains("nothing new"));
    store.put(&[("cranes/lift_01.csv", b"at,tonnes\n1,2.6\n")]);
    assert!(ok(&shop, "load").out.contains("its rows were replaced"));
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM lift"), ["700001"]);
    assert!(ok(&shop, "tally").out.contains("all figures agree"));
}

#[rstest]
fn several_pages_are_listed(#[values(Peer::Moto, Peer::Weed)] peer: Peer) {
    let (shop, store) = begun(peer, "");
    store.python(
        "from concurrent.futures import ThreadPoolExecutor\nput = lambda n: s3.put_object(Bucket='quillane', Key=f'cranes/day={n // 100:03}/lift_{n:05}.csv', Body=b'at\\n%d\\n' % n)\nlist(ThreadPoolExecutor(16).map(put, range(2300)))\n",
    );
    let done = ok(&shop, "load");
    assert!(done.out.contains("2,300 files loaded, 2,300 rows"), "{}", done.out);
    assert_eq!(shop.query("h.db", "SELECT count(DISTINCT at), max(at) FROM lift"), ["2300|2299"]);
    let check = ok(&shop, "check");
    assert!(check.out.contains("listed by 3 requests"), "{}", check.out);
}

/// Both delete on condition, so that files are moved.
#[rstest]
fn what_is_loaded_is_moved(#[values(Peer::Moto, Peer::Weed)] peer: Peer) {
    let (shop, store) = begun(peer, "after = \"move\"");
    store.put(&[("cranes/lift_1.csv", b"at\n1\n"), ("cranes/north/lift_2.csv", b"at\n2\n")]);
    let done = ok(&shop, "load");
    assert!(done.out.contains("2 files loaded, 2 rows"), "{}", done.out);
    let keys = store.keys();
    assert!(keys.len() == 2 && keys.iter().all(|key| key.starts_with("cranes/done/")), "{keys:?}");
    assert_eq!(shop.query("h.db", "SELECT at FROM lift ORDER BY at"), ["1", "2"]);
    assert!(ok(&shop, "load").out.contains("nothing new"));
}

#[test]
fn who_is_not_let_in_is_told_why() {
    let (shop, store) = begun(Peer::Weed, "");
    store.put(&[("cranes/lift_1.csv", b"at\n1\n")]);
    for (key, secret, words) in
        [("nobody", PEER_KEYS.1, "InvalidAccessKeyId"), (PEER_KEYS.0, "wrong", "SignatureDoesNotMatch")]
    {
        let mut command = shop.command("load");
        command.env("CRANE_KEY", key).env("CRANE_SECRET", secret);
        let run = finish(command);
        assert!(run.code == Some(4) && run.err.contains(words), "{}{}", run.out, run.err);
    }
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("the configuration");
    shop.write("hypodoke.toml", text.replace("s3://quillane/", "s3://elsewhere/"));
    let run = run(&shop, "load");
    assert!(
        run.code == Some(4) && run.err.contains("there is no bucket `elsewhere`"),
        "{}{}",
        run.out,
        run.err
    );
}
