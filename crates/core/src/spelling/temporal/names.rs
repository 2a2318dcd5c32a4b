//! The names of months and weekdays, and how they are cut short.

/// Months in English.
pub const MONTHS: [&str; 12] = [
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
];

/// Weekdays in English.
pub const WEEKDAYS: [&str; 7] =
    ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];

/// Months in German, French, Spanish, Italian, Portuguese, Dutch, Danish and Norwegian, Swedish, Polish,
/// Czech and Russian: the names and what is usual for short, all in lower case. No word names two months.
const OTHERS: [&[&str]; 12] = [
    &[
        "januar",
        "jänner",
        "jän",
        "janvier",
        "janv",
        "enero",
        "ene",
        "gennaio",
        "gen",
        "janeiro",
        "januari",
        "stycznia",
        "styczeń",
        "sty",
        "leden",
        "ledna",
        "января",
        "янв",
    ],
    &[
        "februar",
        "feber",
        "février",
        "fevrier",
        "févr",
        "fév",
        "febrero",
        "febbraio",
        "febb",
        "fevereiro",
        "fev",
        "februari",
        "lutego",
        "luty",
        "lut",
        "únor",
        "února",
        "февраля",
        "фев",
    ],
    &[
        "märz",
        "maerz",
        "mär",
        "mrz",
        "mars",
        "marzo",
        "março",
        "marco",
        "maart",
        "mrt",
        "marts",
        "marca",
        "marzec",
        "březen",
        "března",
        "марта",
        "мар",
    ],
    &[
        "avril",
        "avr",
        "abril",
        "abr",
        "aprile",
        "kwietnia",
        "kwiecień",
        "kwi",
        "duben",
        "dubna",
        "апреля",
        "апр",
    ],
    &["mai", "mayo", "maggio", "mag", "maio", "mei", "maj", "maja", "květen", "května", "мая", "май"],
    &[
        "juni", "juin", "junio", "giugno", "giu", "junho", "czerwca", "czerwiec", "cze", "červen", "června",
        "июня", "июн",
    ],
    &[
        "juli",
        "juillet",
        "juil",
        "julio",
        "luglio",
        "lug",
        "julho",
        "lipca",
        "lipiec",
        "lip",
        "červenec",
        "července",
        "июля",
        "июл",
    ],
    &[
        "août",
        "aout",
        "agosto",
        "ago",
        "augustus",
        "augusti",
        "sierpnia",
        "sierpień",
        "sie",
        "srpen",
        "srpna",
        "августа",
        "авг",
    ],
    &[
        "septembre",
        "septiembre",
        "setiembre",
        "settembre",
        "set",
        "sett",
        "setembro",
        "września",
        "wrzesień",
        "wrz",
        "září",
        "сентября",
        "сен",
    ],
    &[
        "oktober",
        "okt",
        "octobre",
        "octubre",
        "ottobre",
        "ott",
        "outubro",
        "out",
        "października",
        "październik",
        "paź",
        "říjen",
        "října",
        "октября",
        "окт",
    ],
    &["novembre", "noviembre", "novembro", "listopada", "listopad", "lis", "listopadu", "ноября", "ноя"],
    &[
        "dezember",
        "dez",
        "décembre",
        "decembre",
        "déc",
        "diciembre",
        "dic",
        "dicembre",
        "dezembro",
        "desember",
        "des",
        "grudnia",
        "grudzień",
        "gru",
        "prosinec",
        "prosince",
        "декабря",
        "дек",
    ],
];

/// A name, its first three letters, or (September) its first four.
fn index(word: &[u8], names: &[&str]) -> Option<usize> {
    let fits = |name: &&str| {
        let full = name.as_bytes();
        word.eq_ignore_ascii_case(full)
            || word.eq_ignore_ascii_case(&full[..3])
            || full[0] == b's' && word.eq_ignore_ascii_case(&full[..4])
    };
    if word.len() < 3 { None } else { names.iter().position(fits) }
}

/// The month of a name, from 1.
pub fn month(word: &[u8]) -> Option<u32> {
    let found = index(word, &MONTHS).or_else(|| {
        let lower = std::str::from_utf8(word).ok()?.to_lowercase();
        (lower.len() >= 3).then(|| OTHERS.iter().position(|names| names.contains(&lower.as_str())))?
    });
    found.map(|at| at as u32 + 1)
}

/// Whether a word is an English weekday.
pub fn is_weekday(word: &[u8]) -> bool {
    index(word, &WEEKDAYS).is_some()
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use super::*;

    #[test]
    fn no_word_names_two_months() {
        let mut seen: HashMap<&str, usize> = HashMap::new();
        for (at, names) in OTHERS.iter().enumerate() {
            for name in *names {
                assert_eq!(*seen.entry(name).or_insert(at), at, "{name}");
                assert_eq!(month(name.as_bytes()), Some(at as u32 + 1), "{name}");
                assert_eq!(month(name.to_uppercase().as_bytes()), Some(at as u32 + 1), "{name}");
            }
        }
    }
}
