//! Words for true and false in the languages of Europe.

use serde::{Deserialize, Serialize};

/// A pair of truth words, in any case.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum BoolWords {
    /// `true` and `false`
    #[default]
    TrueFalse,
    /// `yes` and `no`
    YesNo,
    /// `y` and `n`
    Yn,
    /// `t` and `f`
    Tf,
    /// `on` and `off`
    OnOff,
    /// `ja` and `nein`
    JaNein,
    /// `oui` and `non`
    OuiNon,
    /// `sí` and `no`
    SiNo,
    /// `sim` and `não`
    SimNao,
    /// `ja` and `nee`
    JaNee,
    /// `ja` and `nej`
    JaNej,
    /// `ja` and `nei`
    JaNei,
    /// `kyllä` and `ei`
    KyllaEi,
    /// `tak` and `nie`
    TakNie,
    /// `ano` and `ne`
    AnoNe,
    /// `igen` and `nem`
    IgenNem,
    /// `да` and `нет`
    DaNet,
    /// `wahr` and `falsch`
    WahrFalsch,
    /// `vrai` and `faux`
    VraiFaux,
    /// `verdadero` and `falso`
    VerdaderoFalso,
    /// `vero` and `falso`
    VeroFalso,
    /// `verdadeiro` and `falso`
    VerdadeiroFalso,
}

/// A set of pairs: those that a word, or all words of a column, may belong to.
pub type Pairs = u32;

/// Every pair.
pub const ALL_PAIRS: Pairs = u32::MAX;

/// Every pair with its words: true first. Where several would do, the first is preferred.
const PAIRS: [(BoolWords, &str, &str); 22] = [
    (BoolWords::TrueFalse, "true", "false"),
    (BoolWords::YesNo, "yes", "no"),
    (BoolWords::Yn, "y", "n"),
    (BoolWords::Tf, "t", "f"),
    (BoolWords::OnOff, "on", "off"),
    (BoolWords::JaNein, "ja", "nein"),
    (BoolWords::OuiNon, "oui", "non"),
    (BoolWords::SiNo, "sí", "no"),
    (BoolWords::SimNao, "sim", "não"),
    (BoolWords::JaNee, "ja", "nee"),
    (BoolWords::JaNej, "ja", "nej"),
    (BoolWords::JaNei, "ja", "nei"),
    (BoolWords::KyllaEi, "kyllä", "ei"),
    (BoolWords::TakNie, "tak", "nie"),
    (BoolWords::AnoNe, "ano", "ne"),
    (BoolWords::IgenNem, "igen", "nem"),
    (BoolWords::DaNet, "да", "нет"),
    (BoolWords::WahrFalsch, "wahr", "falsch"),
    (BoolWords::VraiFaux, "vrai", "faux"),
    (BoolWords::VerdaderoFalso, "verdadero", "falso"),
    (BoolWords::VeroFalso, "vero", "falso"),
    (BoolWords::VerdadeiroFalso, "verdadeiro", "falso"),
];

/// The longest word, in bytes.
pub const LONGEST_TRUTH: usize = 10;

impl BoolWords {
    /// The two words: true first.
    pub fn words(self) -> (&'static str, &'static str) {
        PAIRS.iter().find(|(pair, ..)| *pair == self).map_or(("true", "false"), |(_, yes, no)| (yes, no))
    }

    /// The pair's own bit in a set of pairs.
    pub fn bit(self) -> Pairs {
        1 << self as u32
    }

    /// The pair of a set that is preferred.
    pub fn first_of(pairs: Pairs) -> Option<BoolWords> {
        PAIRS.iter().map(|(pair, ..)| *pair).find(|pair| pairs & pair.bit() != 0)
    }
}

const fn bits(pairs: &[BoolWords]) -> Pairs {
    let (mut all, mut at) = (0, 0);
    while at < pairs.len() {
        all |= 1 << pairs[at] as u32;
        at += 1;
    }
    all
}

const JA: Pairs = bits(&[BoolWords::JaNein, BoolWords::JaNee, BoolWords::JaNej, BoolWords::JaNei]);
const NO: Pairs = bits(&[BoolWords::YesNo, BoolWords::SiNo]);
const FALSO: Pairs = bits(&[BoolWords::VerdaderoFalso, BoolWords::VeroFalso, BoolWords::VerdadeiroFalso]);

/// Reads a truth word, in any case: the pairs it may belong to, and its value.
#[inline]
pub fn truth(bytes: &[u8]) -> Option<(Pairs, bool)> {
    if bytes.is_empty() || bytes.len() > LONGEST_TRUTH {
        return None;
    }
    let mut lower = [0u8; LONGEST_TRUTH];
    let lower = lower.get_mut(..bytes.len())?;
    lower.copy_from_slice(bytes);
    lower.make_ascii_lowercase();
    let (pair, value) = match &*lower {
        b"true" => (BoolWords::TrueFalse, true),
        b"false" => (BoolWords::TrueFalse, false),
        b"yes" => (BoolWords::YesNo, true),
        b"no" => return Some((NO, false)),
        b"y" => (BoolWords::Yn, true),
        b"n" => (BoolWords::Yn, false),
        b"t" => (BoolWords::Tf, true),
        b"f" => (BoolWords::Tf, false),
        b"on" => (BoolWords::OnOff, true),
        b"off" => (BoolWords::OnOff, false),
        b"ja" => return Some((JA, true)),
        b"nein" => (BoolWords::JaNein, false),
        b"nee" => (BoolWords::JaNee, false),
        b"nej" => (BoolWords::JaNej, false),
        b"nei" => (BoolWords::JaNei, false),
        b"oui" => (BoolWords::OuiNon, true),
        b"non" => (BoolWords::OuiNon, false),
        b"si" => (BoolWords::SiNo, true),
        b"sim" => (BoolWords::SimNao, true),
        b"nao" => (BoolWords::SimNao, false),
        b"kylla" => (BoolWords::KyllaEi, true),
        b"ei" => (BoolWords::KyllaEi, false),
        b"tak" => (BoolWords::TakNie, true),
        b"nie" => (BoolWords::TakNie, false),
        b"ano" => (BoolWords::AnoNe, true),
        b"ne" => (BoolWords::AnoNe, false),
        b"igen" => (BoolWords::IgenNem, true),
        b"nem" => (BoolWords::IgenNem, false),
        b"wahr" => (BoolWords::WahrFalsch, true),
        b"falsch" => (BoolWords::WahrFalsch, false),
        b"vrai" => (BoolWords::VraiFaux, true),
        b"faux" => (BoolWords::VraiFaux, false),
        b"verdadero" => (BoolWords::VerdaderoFalso, true),
        b"vero" => (BoolWords::VeroFalso, true),
        b"verdadeiro" => (BoolWords::VerdadeiroFalso, true),
        b"falso" => return Some((FALSO, false)),
        word if word.is_ascii() => return None,
        word => return beyond_ascii(word),
    };
    Some((pair.bit(), value))
}

/// Whether a word may be one of truth, by its first byte.
#[inline]
pub fn may_be_truth(first: u8) -> bool {
    matches!(
        first | 0x20,
        b'y' | b'j' | b'n' | b'o' | b's' | b'k' | b'e' | b't' | b'a' | b'i' | b'w' | b'f' | b'v'
    )
}

/// Words with letters that ASCII has not.
#[cold]
fn beyond_ascii(lower: &[u8]) -> Option<(Pairs, bool)> {
    let (pair, value) = match std::str::from_utf8(lower).ok()?.to_lowercase().as_str() {
        "sí" | "sì" => (BoolWords::SiNo, true),
        "não" => (BoolWords::SimNao, false),
        "kyllä" => (BoolWords::KyllaEi, true),
        "да" => (BoolWords::DaNet, true),
        "нет" => (BoolWords::DaNet, false),
        _ => return None,
    };
    Some((pair.bit(), value))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn every_word_is_found_and_means_one_thing() {
        for (pair, yes, no) in PAIRS {
            assert_eq!(pair.words(), (yes, no));
            for (word, value) in [(yes, true), (no, false)] {
                assert!(word.len() <= LONGEST_TRUTH, "{word}");
                for word in [word.to_owned(), word.to_uppercase()] {
                    let (pairs, found) = truth(word.as_bytes()).expect("a truth word");
                    assert!(pairs & pair.bit() != 0 && found == value, "{word}");
                }
            }
        }
    }

    #[rstest]
    #[case("si", BoolWords::SiNo)]
    #[case("Não", BoolWords::SimNao)]
    #[case("no", BoolWords::YesNo)]
    #[case("NEIN", BoolWords::JaNein)]
    fn spellings_belong_to_pairs(#[case] word: &str, #[case] pair: BoolWords) {
        let (pairs, _) = truth(word.as_bytes()).expect("a truth word");
        assert_eq!(BoolWords::first_of(pairs), Some(pair));
    }

    #[rstest]
    #[case("maybe")]
    #[case("nun")]
    #[case("trueish")]
    #[case("")]
    fn other_words_are_none(#[case] word: &str) {
        assert_eq!(truth(word.as_bytes()), None);
    }
}
