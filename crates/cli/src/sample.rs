//! The sample scenario: the music office of a made-up community orchestra. All of it is made by code, from one seed.

use std::fs;
use std::io;
use std::path::Path;

const INSTRUMENTS: [&str; 11] = [
    "Violin 1",
    "Violin 2",
    "Viola",
    "Cello",
    "Double bass",
    "Flute",
    "Oboe",
    "Clarinet",
    "Horn",
    "Trumpet",
    "Timpani",
];

/// Pieces that are only on the computer, on both sides, and only in the cloud.
const HERE: [&str; 2] = ["Harbour Suite", "Three Lanterns"];
const BOTH: &str = "Winter Tide March";
const THERE: &str = "Low Water Waltz";

const SEED: u64 = 0x5eed_000f_0c7e;

/// A small generator: the sample is the same on every computer and every day.
struct Random(u64);

impl Random {
    fn next(&mut self, below: u64) -> u64 {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % below
    }
}

/// Makes the computer's folders under `computer` and the cloud's under `cloud`.
pub fn make(computer: &Path, cloud: &Path) -> io::Result<()> {
    for piece in HERE {
        parts(&computer.join("Scores"), piece)?;
    }
    parts(&computer.join("Scores"), BOTH)?;
    parts(&cloud.join("Scores"), BOTH)?;
    parts(&cloud.join("Scores"), THERE)?;
    write(&cloud.join("Scores/Rota.csv"), rota(12).as_bytes())?;
    write(
        &computer.join("Scores/Poster.svg"),
        poster("Harbour Suite", 340).as_bytes(),
    )?;
    fs::create_dir_all(computer.join("Scores/To be copied"))?;

    write(&computer.join("Recordings/Rehearsal 1.wav"), &tone(220, 2))?;
    write(&computer.join("Recordings/Rehearsal 2.wav"), &tone(247, 3))?;
    write(
        &computer.join("Documents/Rota spring.csv"),
        rota(20).as_bytes(),
    )?;
    write(
        &computer.join("Documents/Seating.txt"),
        b"Strings left to right, winds behind, timpani at the door.\n",
    )?;
    write(
        &computer.join("Desktop/To do.txt"),
        b"Bind the viola parts.\nAsk the horns about Thursday.\n",
    )?;
    write(
        &computer.join("Pictures/Poster spring.svg"),
        poster("Three Lanterns", 200).as_bytes(),
    )?;

    write(
        &cloud.join("Season/Programme.txt"),
        b"Harbour Suite\nThree Lanterns\n(interval)\nWinter Tide March\n",
    )?;
    write(&cloud.join("Season/Rota.csv"), rota(16).as_bytes())?;
    write(&cloud.join("Recordings/Concert.wav"), &tone(262, 4))?;
    for season in 1..=3 {
        let folder = cloud.join(format!("Past seasons/Season {season}"));
        write(&folder.join("Concert.wav"), &tone(180 + 20 * season, 60))?;
        write(
            &folder.join("Programme.txt"),
            format!("Season {season}\n").as_bytes(),
        )?;
    }
    Ok(())
}

/// What people do next: edits on both sides, something new, something removed, none of it in each other's way.
pub fn change(computer: &Path, cloud: &Path) -> io::Result<()> {
    append(
        &computer.join("Scores/Harbour Suite/Viola.txt"),
        "Bar 48: play the repeat.\n",
    )?;
    write(
        &computer.join("Scores/Three Lanterns/Harp.txt"),
        part("Three Lanterns", "Harp").as_bytes(),
    )?;
    append(&cloud.join("Scores/Rota.csv"), "2027-06-03,Timpani,Noor\n")?;
    fs::remove_file(cloud.join("Scores/Winter Tide March/Trumpet.txt"))
}

/// What nobody should do: the same file is edited on both sides.
pub fn clash(computer: &Path, cloud: &Path) -> io::Result<()> {
    let replace = |root: &Path, new: &str| {
        let file = root.join("Scores/Harbour Suite/Cello.txt");
        let text = fs::read_to_string(&file)?.replacen("Tempo: moderate", new, 1);
        fs::write(&file, text)
    };
    replace(computer, "Tempo: slow, by order of the cellos")?;
    replace(cloud, "Tempo: a little faster than last year")
}

/// What happens with a mouse: two pieces end up in another folder.
pub fn misplace(computer: &Path) -> io::Result<()> {
    for piece in HERE {
        fs::rename(
            computer.join("Scores").join(piece),
            computer.join("Desktop").join(piece),
        )?;
    }
    Ok(())
}

/// And are found there.
pub fn put_back(computer: &Path) -> io::Result<()> {
    for piece in HERE {
        fs::rename(
            computer.join("Desktop").join(piece),
            computer.join("Scores").join(piece),
        )?;
    }
    Ok(())
}

fn write(path: &Path, content: &[u8]) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::write(path, content)
}

fn append(path: &Path, text: &str) -> io::Result<()> {
    fs::write(path, fs::read_to_string(path)? + text)
}

fn parts(root: &Path, piece: &str) -> io::Result<()> {
    for instrument in INSTRUMENTS {
        write(
            &root.join(piece).join(format!("{instrument}.txt")),
            part(piece, instrument).as_bytes(),
        )?;
    }
    Ok(())
}

/// A part, in note names: a page of bars that are the same for every run.
fn part(piece: &str, instrument: &str) -> String {
    let seed = piece
        .bytes()
        .chain(instrument.bytes())
        .fold(SEED, |seed, byte| seed.wrapping_mul(31) + u64::from(byte));
    let mut random = Random(seed);
    let mut text = format!("{piece}\n{instrument}\nTempo: moderate\n\n");
    for bar in 1..=48 {
        let notes: Vec<&str> = (0..4)
            .map(|_| ["c", "d", "e", "f", "g", "a", "b", "rest"][random.next(8) as usize])
            .collect();
        text.push_str(&format!("Bar {bar}: {}\n", notes.join(" ")));
    }
    text
}

fn rota(weeks: u64) -> String {
    let mut random = Random(SEED ^ weeks);
    let names = [
        "Ada", "Bela", "Chidi", "Dana", "Emre", "Fay", "Goro", "Hana",
    ];
    let mut text = String::from("date,section,name\n");
    for week in 0..weeks {
        let (month, day) = (1 + week / 4, 7 + 7 * (week % 4) - 6);
        let section = INSTRUMENTS[random.next(11) as usize];
        text.push_str(&format!(
            "2027-{month:02}-{day:02},{section},{}\n",
            names[random.next(8) as usize]
        ));
    }
    text
}

fn poster(title: &str, hue: u32) -> String {
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"420\" height=\"594\">\
         <rect width=\"420\" height=\"594\" fill=\"hsl({hue} 40% 30%)\"/>\
         <circle cx=\"210\" cy=\"240\" r=\"130\" fill=\"hsl({hue} 60% 70%)\"/>\
         <text x=\"210\" y=\"480\" font-size=\"36\" text-anchor=\"middle\" fill=\"white\">{title}</text></svg>\n"
    )
}

/// A tone as a WAV file: 8 kHz, 16 bits, one channel.
fn tone(hertz: u32, seconds: u32) -> Vec<u8> {
    const RATE: u32 = 8000;
    let length = RATE * seconds * 2;
    let mut wav = Vec::with_capacity(44 + length as usize);
    wav.extend_from_slice(b"RIFF");
    wav.extend_from_slice(&(36 + length).to_le_bytes());
    wav.extend_from_slice(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    wav.extend_from_slice(&RATE.to_le_bytes());
    wav.extend_from_slice(&(RATE * 2).to_le_bytes());
    wav.extend_from_slice(b"\x02\0\x10\0data");
    wav.extend_from_slice(&length.to_le_bytes());
    for sample in 0..RATE * seconds {
        let angle = f64::from(sample) * f64::from(hertz) * std::f64::consts::TAU / f64::from(RATE);
        wav.extend_from_slice(&((angle.sin() * 12_000.0) as i16).to_le_bytes());
    }
    wav
}
