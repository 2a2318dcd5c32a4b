//! The page of a watch and the report, in a browser: light and dark, wide and narrow, on paper, by keyboard,
//! and with names of files that would be markup.

use hypodoke_testkit::{Browser, Watch, Workshop, set_modified, wait_for};
use rstest::rstest;

use crate::workshop;

const HOSTILE: &str = "gauge_<img src=x onerror=alert(1)>.csv";

/// A week of files, one with rejects, one held, one with a name that would be markup, and a long name.
fn with_a_week() -> Workshop {
    let shop = workshop();
    shop.write(
        "hypodoke.toml",
        "[staging]\nurl = \"sqlite:h.db\"\n[place.quay]\npath = \"in\"\nquiet_for = \"100ms\"\n\
         [feed.gauge]\nplace = \"quay\"\nfiles = \"gauge_*.csv\"\n[feed.berths]\nplace = \"quay\"\n\
         files = \"berths_*.csv\"\n[watch]\nlisten = \"127.0.0.1:0\"\n",
    );
    let rows: String = (0..40).map(|at| format!("{at},{}.5,north\n", at % 7)).collect();
    for day in 1..8_u64 {
        let (rows, head) = match day {
            6 => (rows.replace("3.5", "high"), "at,level,pier"),
            7 => (rows.clone(), "when,height,tide"),
            _ => (rows.clone(), "at,level,pier"),
        };
        let file = shop.write(&format!("in/gauge_{day}.csv"), format!("{head}\n{rows}"));
        set_modified(&file, 1_772_000_000 + day * 86_400);
        shop.done("load");
    }
    shop.write(&format!("in/{HOSTILE}"), format!("at,level,pier\n{rows}"));
    let long = "a_name_that_goes_on_and_on_".repeat(5);
    shop.write(&format!("in/berths_{long}.csv"), format!("berth,{long}\n1,2\n"));
    shop.done("load");
    shop
}

/// The least contrast of any text with what it stands on, as the web's guidelines count it, and that text.
const LEAST_CONTRAST: &str = "(() => {
  const parts = (color) => color.match(/[\\d.]+/g).map(Number);
  const light = (color) => parts(color).slice(0, 3).map((part) => part / 255)
    .map((part) => part <= 0.04045 ? part / 12.92 : ((part + 0.055) / 1.055) ** 2.4)
    .reduce((sum, part, at) => sum + part * [0.2126, 0.7152, 0.0722][at], 0);
  const ground = (one) => {
    for (; one; one = one.parentElement) {
      const color = getComputedStyle(one).backgroundColor;
      if ((parts(color)[3] ?? 1) > 0) return color;
    }
    return 'rgb(255, 255, 255)';
  };
  let least = [99, ''];
  for (const one of document.querySelectorAll('main *')) {
    const own = [...one.childNodes].filter((node) => node.nodeType === 3 && node.data.trim());
    if (!own.length || one.closest('svg') || !one.checkVisibility()) continue;
    const [a, b] = [light(getComputedStyle(one).color), light(ground(one))];
    const contrast = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
    if (contrast < least[0]) least = [contrast, own[0].data];
  }
  return least;
})()";

/// What reaches out of the page to the right, where it does not scroll by itself.
const TOO_WIDE: &str = "document.documentElement.scrollWidth - document.documentElement.clientWidth";

#[rstest]
#[case::wide_and_light(1280, false)]
#[case::wide_and_dark(1280, true)]
#[case::phone_and_light(360, false)]
#[case::phone_and_dark(360, true)]
fn pages_fit_and_can_be_read(#[case] width: u32, #[case] dark: bool) {
    let shop = with_a_week();
    shop.ok("report -o report.html");
    let watch = Watch::start(&shop, "");
    let mut browser = Browser::start();
    browser.size(width, 800);
    browser.surroundings(dark, "screen");
    let ids = shop.query("h.db", "SELECT file FROM hd_files WHERE rows_rejected > 0 OR outcome = 'held'");
    assert!(ids.len() >= 2, "one with rejects, and one that is held");
    let home = format!("http://{}/", watch.address());
    let mut addresses: Vec<String> = ids.iter().map(|id| format!("{home}file/{id}")).collect();
    addresses.push(home);
    addresses.push(format!("file://{}", shop.path("report.html").display()));
    for address in addresses {
        browser.go(&address);
        // What is folded away has to fit, too.
        browser.value("document.querySelectorAll('details').forEach((one) => { one.open = true; })");
        assert_eq!(browser.value(TOO_WIDE), 0, "{address} scrolls to the side");
        let least = browser.value(LEAST_CONTRAST);
        assert!(least[0].as_f64() >= Some(4.5), "{least} on {address}");
        let ground = browser.value("getComputedStyle(document.body).backgroundColor");
        assert_eq!(ground == "rgb(20, 24, 29)", dark, "{ground}");
        assert_eq!(browser.value("document.querySelectorAll('img').length"), 0, "names are no markup");
        assert_eq!(browser.complaints, [""; 0], "{address}");
    }
}

#[test]
fn a_page_on_paper_is_dark_on_white_and_whole() {
    let shop = with_a_week();
    shop.ok("report -o report.html");
    let mut browser = Browser::start();
    browser.size(800, 1100);
    browser.surroundings(true, "print");
    browser.go(&format!("file://{}", shop.path("report.html").display()));
    let ground = browser.value("getComputedStyle(document.body).backgroundColor");
    assert_eq!(ground, "rgb(255, 255, 255)");
    assert!(browser.value(LEAST_CONTRAST)[0].as_f64() >= Some(4.5));
    assert_eq!(browser.value(TOO_WIDE), 0);
}

#[test]
fn a_page_renews_itself_and_keeps_what_is_open_and_where_one_is() {
    let shop = with_a_week();
    let watch = Watch::start(&shop, "");
    let mut browser = Browser::start();
    browser.size(1280, 800);
    browser.go(&format!("http://{}/", watch.address()));
    assert!(browser.value("document.body.textContent").as_str().is_some_and(|text| text.contains(HOSTILE)));
    // By keyboard: every stop is seen, and leads on.
    let mut stops = std::collections::BTreeSet::new();
    for _ in 0..12 {
        browser.press("Tab");
        let outline = browser.value("getComputedStyle(document.activeElement).outlineStyle");
        assert_eq!(outline, "solid", "where one is can be seen");
        let stop = browser.value("document.activeElement.outerHTML.slice(0, 200)");
        stops.insert(stop.to_string());
    }
    assert!(stops.len() >= 10, "{stops:?}");
    browser.value("document.querySelector('details').open = true; window.here = 1");
    browser.value("[...document.querySelectorAll('a')].find((one) => one.href.includes('/file/')).focus()");
    let focus = browser.value("document.activeElement.getAttribute('href')");
    shop.write("in/gauge_later.csv", "at,level,pier\n1,2.5,south\n2,2.5,south\n");
    wait_for("the file", || watch.log().contains("gauge_later.csv"));
    browser.waits("document.querySelector('main').textContent.includes('gauge_later.csv')");
    assert_eq!(browser.value("window.here"), 1, "it is the same page");
    assert_eq!(browser.value("document.querySelector('details').open"), true);
    assert_eq!(browser.value("document.activeElement.getAttribute('href')"), focus);
    browser.press("Enter");
    browser.waits("location.pathname.startsWith('/file/') && document.readyState === 'complete'");
    assert_eq!(browser.complaints, [""; 0]);
    // When the watch is gone, the page says so.
    browser.go(&format!("http://{}/", watch.address()));
    drop(watch);
    browser.waits("document.querySelector('.lost').checkVisibility()");
}
