//! The 36 lights of the coast, and who kept them.

use rand::Rng;
use rand::seq::IndexedRandom;
use serde_json::{Value, json};

/// name | code | region | first lit | tower height in metres | character of the light | what one notices
const STATIONS: &str = "\
Gull Rock|GUL|North Skerries|1841|41|flashing white every 10 s|Two hundred and fourteen steps and a draught on every one.
Tolla Head|TOL|Tolla Sound|1868|28|fixed white over red|The only light on the coast with a piano, and nobody who plays.
Ness of Harr|HAR|North Skerries|1879|33|flashing white twice every 20 s|Stands where three tides argue.
Little Sark Stone|LSS|The Drowned Isles|1903|22|occulting white every 8 s|Awash at high springs; the front door is upstairs.
Saint Orla|ORL|Tolla Sound|1826|19|fixed red|Built by monks, improved by nobody.
Kettle Point|KET|Kettle Bay|1888|24|flashing red every 5 s|Smells of the herring works when the wind is honest.
The Widow|WID|The Drowned Isles|1897|46|flashing white every 30 s|A lone column on a lone rock. Relief by rope.
Long Arm|ARM|Kettle Bay|1872|17|fixed green|At the end of a breakwater, so the post comes daily and dry.
Brannick|BRA|Brannick Shore|1855|36|revolving white every 60 s|Its fog siren curdled milk until it was turned seaward.
Black Maiden|MAI|North Skerries|1909|39|flashing white thrice every 30 s|Painted in bands, black wins.
Eelgrass Spit|EEL|Marrow Flats|1893|14|fixed white|On screw piles in the mud, sways politely.
Cold Harbour|COL|Brannick Shore|1861|21|occulting red every 12 s|Warmest kitchen on the coast, named by a liar.
Farthing Light|FAR|Marrow Flats|1899|12|fixed white|Small, cheap and always lit.
Skua Stack|SKU|North Skerries|1912|31|flashing white every 15 s|The birds were here first and say so.
Mother Anders|AND|The Drowned Isles|1846|27|fixed white varied by flash every 90 s|Named for a midwife who rowed out to it.
Pilot's Folly|PIL|Tolla Sound|1834|16|fixed white|Built facing the wrong way and turned round in 1836.
Wrack Island|WRA|The Drowned Isles|1881|25|flashing red every 20 s|Sheep, wind, two families, one quarrel.
Salter's Gate|SAL|Marrow Flats|1870|20|occulting white every 10 s|Marks the channel the saltern barges used.
Dunlow|DUN|Brannick Shore|1864|30|flashing white every 6 s|Has a garden that wins prizes and is not spoken of at other lights.
The Candle|CAN|Kettle Bay|1819|11|fixed white|Oldest on the coast; once burned sea coal.
Hook of Maree|MAR|Far Capes|1886|35|flashing white twice every 15 s|The last thing emigrants saw.
Cape Lorn|LOR|Far Capes|1858|43|revolving white every 45 s|You can see tomorrow's weather from it.
Ember Holm|EMB|Far Capes|1901|23|flashing red and white every 20 s|Warm springs, a bath, a waiting list.
Ravelin|RAV|Brannick Shore|1849|18|fixed red|Inside an old fort; the cannon is now a planter.
Bell Shoal|BEL|Marrow Flats|1906|15|lightvessel, flashing white every 12 s|A ship that goes nowhere, all day, in all weathers.
Sandray|SAN|The Drowned Isles|1875|26|flashing white every 7 s|Sand in the bread, the beds and the log.
Nightjar Head|NIG|Far Capes|1892|38|flashing white four times every 40 s|Unlucky at cards.
Osprey Ledge|OSP|Far Capes|1910|34|occulting white every 20 s|Landed by derrick, in a basket, with dignity left ashore.
Tern Bank|TER|Marrow Flats|1914|13|fixed green|Moves a yard each winter; the bank does, and the light with it.
Old Hob|HOB|Kettle Bay|1839|29|flashing white every 9 s|Said to be haunted by a keeper who never handed over.
Fiddler's Reach|FID|Tolla Sound|1878|16|occulting green every 6 s|Where the ferry waits for the tide and the band plays.
Greyfell|GRE|North Skerries|1866|37|flashing white every 25 s|In cloud two days of three.
Anchorite Rock|ANC|Far Capes|1895|44|flashing white twice every 45 s|Silence is a tradition here.
Lantern Quay|LAN|Kettle Bay|1902|10|fixed red over green|The apprentices' light; eleven masters of the service began here.
Marrow Bar|MBR|Marrow Flats|1884|19|flashing red every 8 s|Dredged around, cursed at, relied upon.
Sula Deeps|SUL|The Drowned Isles|1919|48|flashing white every 60 s|Tallest, wettest, newest; concrete to the knees.";

const FIRST: [&str; 30] = [
    "Ewan", "Magnus", "Isobel", "Torquil", "Hanne", "Aldous", "Perrin", "Jory", "Wilmot", "Agnes",
    "Cuthbert", "Osric", "Nils", "Bram", "Tobias", "Edda", "Lorcan", "Hester", "Fergus", "Anselm", "Rory",
    "Maud", "Gideon", "Sven", "Ivor", "Keziah", "Duncan", "Silas", "Petra", "Amos",
];
const LAST: [&str; 32] = [
    "Tarrow",
    "Hallick",
    "Munnoch",
    "Strand",
    "Kittering",
    "Oake",
    "Penhallow",
    "Brask",
    "Sorley",
    "Fenwater",
    "Gorse",
    "Lindqvar",
    "Marl",
    "Quill",
    "Rannick",
    "Skaill",
    "Thole",
    "Usher",
    "Varr",
    "Weddell",
    "Yarrow",
    "Birsay",
    "Cairnie",
    "Dray",
    "Ellwand",
    "Foss",
    "Garvie",
    "Haldane-Brook",
    "Innes",
    "Jessop",
    "Kell",
    "Lamb",
];

/// The stations, most talkative first.
pub fn stations() -> Vec<Value> {
    STATIONS
        .lines()
        .map(|line| {
            let part: Vec<&str> = line.split('|').collect();
            json!({
                "key": part[0], "name": part[0], "code": part[1], "region": part[2],
                "first_lit": part[3].parse::<i64>().expect("a year"),
                "height_m": part[4].parse::<i64>().expect("a height"),
                "character": part[5], "about": part[6],
            })
        })
        .collect()
}

pub struct Keeper {
    name: String,
    station: usize,
    from: i32,
    to: i32,
}

pub fn keepers(rng: &mut impl Rng, n_stations: usize) -> Vec<Keeper> {
    let mut list = Vec::new();
    for station in 0..n_stations {
        let mut from = 1911;
        while from <= 1967 {
            let to = from + rng.random_range(3..14);
            for _ in 0..rng.random_range(2..4) {
                let first = FIRST.choose(rng).expect("not empty");
                let name = format!("{first} {}", LAST.choose(rng).expect("not empty"));
                list.push(Keeper { name, station, from, to });
            }
            from = to + 1;
        }
    }
    list
}

pub fn on_duty<'a>(keepers: &'a [Keeper], station: usize, year: i32, rng: &mut impl Rng) -> &'a str {
    let there: Vec<&Keeper> =
        keepers.iter().filter(|k| k.station == station && (k.from..=k.to).contains(&year)).collect();
    &there.choose(rng).expect("a light is never unkept").name
}
