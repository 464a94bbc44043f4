//! Which letters are letters of their own: `å` stands with `a` for an English reader, and at
//! the end of the alphabet for a Swedish one.

use unicode_normalization::UnicodeNormalization as _;
use unicode_normalization::char::is_combining_mark;

/// The language by whose alphabet names are sorted, grouped and searched.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash)]
pub struct Locale(u8);

/// Letters and pairs of letters of their own, in lower case and composed, each with the letter
/// behind which it comes (empty: behind all). Of several behind one letter the first comes first;
/// those joined by `=` count as one letter.
type Alphabet = &'static [(&'static str, &'static str)];

/// (language, its own letters) after the alphabets of CLDR, as far as they are primary
/// differences. The first is everybody's who is not listed: accents aside.
const ALPHABETS: [(&str, Alphabet); 21] = [
    ("en", &[]),
    ("bs", CROATIAN),
    ("cs", &[("č", "c"), ("ch", "h"), ("ř", "r"), ("š", "s"), ("ž", "z")]),
    ("da", DANISH),
    ("es", &[("ñ", "n")]),
    ("et", &[("š", "s"), ("z", "s"), ("ž", "s"), ("õ", "w"), ("ä", "w"), ("ö", "w"), ("ü", "w")]),
    ("fi", SWEDISH),
    ("hr", CROATIAN),
    (
        "hu",
        &[
            ("cs", "c"),
            ("dz", "d"),
            ("dzs", "d"),
            ("gy", "g"),
            ("ly", "l"),
            ("ny", "n"),
            ("ö=ő", "o"),
            ("sz", "s"),
            ("ty", "t"),
            ("ü=ű", "u"),
            ("zs", "z"),
        ],
    ),
    (
        "is",
        &[
            ("á", "a"),
            ("ð", "d"),
            ("é", "e"),
            ("í", "i"),
            ("ó", "o"),
            ("ú", "u"),
            ("ý", "y"),
            ("þ", ""),
            ("æ=ä", ""),
            ("ö=ø", ""),
            ("å", ""),
        ],
    ),
    ("lt", &[("č", "c"), ("š", "s"), ("ž", "z")]),
    (
        "lv",
        &[
            ("č", "c"),
            ("ģ", "g"),
            ("ķ", "k"),
            ("ļ", "l"),
            ("ņ", "n"),
            ("ŗ", "r"),
            ("š", "s"),
            ("ž", "z"),
        ],
    ),
    ("nb", DANISH),
    ("nn", DANISH),
    (
        "pl",
        &[
            ("ą", "a"),
            ("ć", "c"),
            ("ę", "e"),
            ("ł", "l"),
            ("ń", "n"),
            ("ó", "o"),
            ("ś", "s"),
            ("ź", "z"),
            ("ż", "z"),
        ],
    ),
    ("ro", &[("ă", "a"), ("â", "a"), ("î", "i"), ("ș=ş", "s"), ("ț=ţ", "t")]),
    ("sk", &[("ä", "a"), ("č", "c"), ("ch", "h"), ("ô", "o"), ("š", "s"), ("ž", "z")]),
    ("sl", &[("č", "c"), ("ć", "c"), ("đ", "d"), ("š", "s"), ("ž", "z")]),
    (
        "sq",
        &[
            ("ç", "c"),
            ("dh", "d"),
            ("ë", "e"),
            ("gj", "g"),
            ("ll", "l"),
            ("nj", "n"),
            ("rr", "r"),
            ("sh", "s"),
            ("th", "t"),
            ("xh", "x"),
            ("zh", "z"),
        ],
    ),
    ("sv", SWEDISH),
    ("tr", &[("ç", "c"), ("ğ", "g"), ("ı", "h"), ("ö", "o"), ("ş", "s"), ("ü", "u")]),
];

const CROATIAN: Alphabet = &[
    ("č", "c"),
    ("ć", "c"),
    ("dž=ǆ", "d"),
    ("đ", "d"),
    ("lj=ǉ", "l"),
    ("nj=ǌ", "n"),
    ("š", "s"),
    ("ž", "z"),
];
const DANISH: Alphabet = &[("æ=ä", ""), ("ø=ö=ő", ""), ("å=aa", "")];
const SWEDISH: Alphabet = &[("å", ""), ("ä=æ", ""), ("ö=ø", "")];

impl Locale {
    /// The languages that have an alphabet of their own here, and `en` for all others.
    pub fn all() -> impl Iterator<Item = Locale> {
        (0..ALPHABETS.len() as u8).map(Locale)
    }

    /// Its language tag (BCP 47).
    pub fn word(self) -> &'static str {
        self.row().0
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Locale> {
        Locale::all().find(|locale| locale.word() == word)
    }

    /// Whether this is its language, given as a tag (BCP 47) or by three letters, as files and
    /// films name theirs.
    pub fn speaks(self, tag: &str) -> bool {
        let first = tag.split(['-', '_']).next().unwrap_or(tag).to_ascii_lowercase();
        // ISO 639-2, by the language's own name and, where there is one, by the English.
        let long: &[&str] = match self.word() {
            "bs" => &["bos"],
            "cs" => &["ces", "cze"],
            "da" => &["dan"],
            "es" => &["spa"],
            "et" => &["est"],
            "fi" => &["fin"],
            "hr" => &["hrv"],
            "hu" => &["hun"],
            "is" => &["isl", "ice"],
            "lt" => &["lit"],
            "lv" => &["lav"],
            // Either is often named by what both are.
            "nb" => &["nob", "no", "nor"],
            "nn" => &["nno", "no", "nor"],
            "pl" => &["pol"],
            "ro" => &["ron", "rum"],
            "sk" => &["slk", "slo"],
            "sl" => &["slv"],
            "sq" => &["sqi", "alb"],
            "sv" => &["swe"],
            "tr" => &["tur"],
            _ => &["eng"],
        };
        first == self.word() || long.contains(&first.as_str())
    }

    fn row(self) -> &'static (&'static str, Alphabet) {
        &ALPHABETS[usize::from(self.0)]
    }

    /// A text without case and accents: what names are compared, grouped and searched by.
    /// Letters of their own become the letter before them and a mark above all letters.
    pub fn fold(self, text: &str) -> String {
        let (language, own) = self.row();
        let is_plain = |(letters, _): &(&str, &str)| !letters.split('=').any(str::is_ascii);
        if text.is_ascii() && *language != "tr" && own.iter().all(is_plain) {
            return text.to_ascii_lowercase();
        }
        // What stands for several letters becomes these first, as one of them may be of its own.
        let mut composed: String = text.nfkc().collect();
        if *language == "tr" {
            // Two letters, of which each has its own capital.
            composed = composed.replace('İ', "i").replace('I', "ı");
        }
        let composed = composed.to_lowercase();
        let mut folded = String::with_capacity(text.len());
        let mut rest = composed.as_str();
        while let Some(c) = rest.chars().next() {
            // Of two that match the longer one.
            let letter = (own.iter().enumerate())
                .flat_map(|(at, (letters, _))| letters.split('=').map(move |l| (l, at)))
                .filter(|(letters, _)| rest.starts_with(letters))
                .max_by_key(|(letters, _)| letters.len());
            if let Some((letters, at)) = letter {
                push_own(own, at, &mut folded);
                rest = &rest[letters.len()..];
            } else {
                let mut base = String::new();
                plain(c, &mut base);
                for c in base.chars() {
                    // Without its accent it may be a letter of its own: `ẑ` where `z` follows `s`.
                    let is = |letters: &str| letters.split('=').any(|l| l.chars().eq([c]));
                    match own.iter().position(|(letters, _)| is(letters)) {
                        Some(at) => push_own(own, at, &mut folded),
                        None => folded.push(c),
                    }
                }
                rest = &rest[c.len_utf8()..];
            }
        }
        folded
    }
}

/// The first of the marks that stand behind a letter; as bytes they are above all ASCII letters
/// and below all others.
const MARK: u32 = 0x80;

/// Adds the letter at a place of an alphabet's own: the letter before it, and a mark.
fn push_own(own: &[(&str, &str)], at: usize, folded: &mut String) {
    let after = own[at].1;
    let place = own[..at].iter().filter(|(_, a)| *a == after).count();
    folded.push_str(after);
    folded.extend(char::from_u32(MARK + place as u32));
}

/// A letter without its accents.
fn plain(letter: char, folded: &mut String) {
    // Letters by themselves wherever they are used, whatever they decompose into.
    if matches!(letter, 'й' | 'ї' | 'ў') {
        folded.push(letter);
        return;
    }
    for c in letter.nfkd().filter(|c| !is_combining_mark(*c)) {
        match c {
            // Letters that decomposition leaves whole, in the place where people look for them.
            'ß' => folded.push_str("ss"),
            'æ' => folded.push_str("ae"),
            'œ' => folded.push_str("oe"),
            'ø' => folded.push('o'),
            'đ' => folded.push('d'),
            'ł' => folded.push('l'),
            'ı' => folded.push('i'),
            c => folded.extend(c.to_lowercase()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::natural_order;
    use proptest::prelude::*;

    fn sorted(locale: &str, names: &[&str]) -> Vec<String> {
        let locale = Locale::from_word(locale).unwrap();
        let mut names: Vec<String> = names.iter().map(|n| (*n).to_owned()).collect();
        names.sort_by(|a, b| natural_order(&locale.fold(a), &locale.fold(b)));
        names
    }

    #[test]
    fn each_language_has_its_own_alphabet() {
        let names = ["Öl", "Zebra", "Ål", "Ärla", "Al", "Orm"];
        assert_eq!(sorted("en", &names), ["Ål", "Al", "Ärla", "Öl", "Orm", "Zebra"]);
        assert_eq!(sorted("sv", &names), ["Al", "Orm", "Zebra", "Ål", "Ärla", "Öl"]);
        let names = ["Ål", "Zulu", "Ørn", "Aal", "Ærfugl", "Ask"];
        assert_eq!(sorted("da", &names), ["Ask", "Zulu", "Ærfugl", "Ørn", "Ål", "Aal"]);
        let names = ["ñandú", "nube", "oca", "Nada"];
        assert_eq!(sorted("es", &names), ["Nada", "nube", "ñandú", "oca"]);
        let names = ["ihned", "chata", "cena", "hora", "čaj"];
        assert_eq!(sorted("cs", &names), ["cena", "čaj", "hora", "chata", "ihned"]);
        let names = ["İz", "Işık", "Hız", "iz"];
        assert_eq!(sorted("tr", &names), ["Hız", "Işık", "İz", "iz"]);
        let names = ["żaba", "źrebak", "zamek", "łoś", "los"];
        assert_eq!(sorted("pl", &names), ["los", "łoś", "zamek", "źrebak", "żaba"]);
        // Composed or not makes no difference.
        assert_eq!(sorted("sv", &["A\u{30a}l", "Zebra"]), ["Zebra", "A\u{30a}l"]);
    }

    #[test]
    fn accents_are_aside_where_no_alphabet_says_otherwise() {
        assert_eq!(Locale::default().fold("Straße ØRE Œuvre"), "strasse ore oeuvre");
        assert_eq!(sorted("en", &["Ёлка", "Йод", "Ива", "Емеля"]), ["Ёлка", "Емеля", "Ива", "Йод"]);
    }

    #[test]
    fn a_language_is_known_by_two_letters_and_by_three() {
        let speaks = |word: &str, tag| Locale::from_word(word).unwrap().speaks(tag);
        assert!(speaks("en", "en-GB") && speaks("en", "eng") && speaks("sv", "SWE"));
        assert!(speaks("nb", "no") && !speaks("sv", "sl") && !speaks("en", ""));
        let own = |locale: Locale| Locale::all().filter(|l| l.speaks(locale.word())).count() == 1;
        assert!(Locale::all().all(own));
    }

    #[test]
    fn words_read_back_and_are_in_order() {
        let words: Vec<&str> = Locale::all().map(Locale::word).collect();
        assert!(Locale::all().all(|l| Locale::from_word(l.word()) == Some(l)));
        assert!(words[1..].is_sorted(), "{words:?}");
        assert_eq!(Locale::default().word(), "en");
        assert_eq!(Locale::from_word("xx"), None);
    }

    proptest! {
        #[test]
        fn folding_twice_is_folding_once(text in "\\PC{0,12}|[a-zåäöčšžßñ ]{0,12}") {
            // Pairs of letters may come about by folding: `čß` is `css`.
            let single = |l: &Locale| l.row().1.iter().all(|(own, _)| own.chars().count() == 1);
            for locale in Locale::all().filter(single) {
                let folded = locale.fold(&text);
                prop_assert_eq!(locale.fold(&folded), folded, "{}", locale.word());
            }
        }

        #[test]
        fn what_is_in_a_text_is_found_in_it(before in "[a-zå]{0,4}", text in "[b-gik-mo-rt-vx]{1,4}", after in "[bcfk]{0,4}") {
            for locale in [Locale::default(), Locale::from_word("sv").unwrap()] {
                let whole = locale.fold(&format!("{before}{text}{after}"));
                prop_assert!(whole.contains(&locale.fold(&text)));
            }
        }
    }
}
