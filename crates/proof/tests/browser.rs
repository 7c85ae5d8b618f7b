//! The page in a real browser: what a person clicks and presses, what is heard, and that nothing is asked of any network.
//!
//! Needs `chromedriver` and Chromium (`scripts/browser` installs them); where there is none, these tests say that they
//! were not run.
#![allow(clippy::as_conversions, clippy::unwrap_used, clippy::print_stdout, missing_docs)]

use deft_needle_audio::Clip;
use deft_needle_audio::block::Samples;
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::{Format, Output};
use deft_needle_proof::page::{Told, files_beside, hand_over};
use deft_needle_proof::sound::record;
use deft_needle_proof::{Card, Page, Side, Sounds, draw};
use fantoccini::key::Key;
use fantoccini::wd::Capabilities;
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::{Value, json};
use std::future::Future;
use std::io::Cursor;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// A driver, which ends with the test.
struct Driver {
    process: Child,
    port: u16,
    folder: TempDir,
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

impl Driver {
    /// Nothing where none is installed.
    fn start() -> Option<Self> {
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let process = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn();
        match process {
            Ok(process) => Some(Self { process, port, folder: tempfile::tempdir().unwrap() }),
            Err(_) => {
                println!("not run: there is no chromedriver (scripts/browser installs it)");
                None
            }
        }
    }

    fn net_log(&self) -> PathBuf {
        self.folder.path().join("net.json")
    }

    async fn client(&self, size: &str) -> Client {
        let profile = self.folder.path().join(format!("profile-{size}"));
        let args = [
            "--headless=new".to_owned(),
            "--no-sandbox".to_owned(),
            "--disable-gpu".to_owned(),
            "--disable-background-networking".to_owned(),
            "--disable-component-update".to_owned(),
            "--no-first-run".to_owned(),
            "--autoplay-policy=no-user-gesture-required".to_owned(),
            format!("--window-size={size}"),
            format!("--user-data-dir={}", profile.display()),
            format!("--log-net-log={}", self.net_log().display()),
        ];
        let mut wanted = Capabilities::new();
        wanted.insert("goog:chromeOptions".to_owned(), json!({ "args": args }));
        let address = format!("http://127.0.0.1:{}", self.port);
        let began = Instant::now();
        loop {
            let mut builder = ClientBuilder::new(HttpConnector::new());
            let made = builder.capabilities(wanted.clone()).connect(&address).await;
            match made {
                Ok(client) => return client,
                Err(_) if began.elapsed() < Duration::from_secs(20) => {
                    tokio::time::sleep(Duration::from_millis(200)).await;
                }
                Err(error) => panic!("no session: {error}"),
            }
        }
    }
}

fn run(test: impl Future<Output = ()>) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(test);
}

async fn open(client: &Client, page: &Path) {
    client.goto(&format!("file://{}", page.display())).await.unwrap();
}

async fn js(client: &Client, text: &str) -> Value {
    client.execute(text, Vec::new()).await.unwrap()
}

/// The same for what takes its time: the script calls `done`.
async fn later(client: &Client, text: &str) -> Value {
    let text = format!(
        "const done = arguments[arguments.length - 1]; (async () => {{ {text} }})().catch((e) => done(String(e)));"
    );
    client.execute_async(&text, Vec::new()).await.unwrap()
}

async fn press(client: &Client, keys: &str) {
    client.find(Locator::Css("body")).await.unwrap().send_keys(keys).await.unwrap();
}

async fn shown(client: &Client) -> Vec<String> {
    let names = js(
        client,
        "return [...document.querySelectorAll('.card:not([hidden])')].map((c) => c.dataset.slot)",
    );
    serde_json::from_value(names.await).unwrap()
}

/// A tone with a loop that is a whole number of its periods, in a file of its own.
fn clip(folder: &Path, name: &str, line: &str, frames: usize, level: f64) -> Clip {
    let format: Format = line.parse().unwrap();
    let period = 100.0;
    let tone = |n: usize| level * (std::f64::consts::TAU * n as f64 / period).sin();
    let channels = usize::from(format.channels.count());
    let samples = vec![(0..frames).map(tone).collect::<Vec<f64>>(); channels];
    let mut bytes = Cursor::new(Vec::new());
    let source = Samples::new(format.rate, samples);
    let output = Output::plain(format, frames as u64);
    render_source(source, &output, Dither::None, &mut bytes, &Unobserved).unwrap();
    let path = folder.join(name);
    std::fs::write(&path, bytes.into_inner()).unwrap();
    Clip::open(&path).unwrap()
}

fn side(clip: &Clip, lufs: f64, looped: Option<(u64, u64)>) -> Side {
    let facts = clip.facts();
    let (playable, picture) =
        record(clip, &mut *clip.frames().unwrap(), None, &Unobserved).unwrap();
    let bytes = playable.read().unwrap();
    Side {
        spec: facts.format.to_string(),
        seconds: facts.seconds(),
        length: format!("{:.3} s", facts.seconds()),
        rate: facts.format.rate.hertz(),
        frames: facts.frames,
        lufs: Some(lufs),
        peak: Some(-3.0),
        looped,
        marks: Vec::new(),
        drawn: draw::draw(&picture, facts.format.rate),
        sound: Sounds::Inline { bytes, kind: playable.kind },
    }
}

/// Slots of two families and one whose every text is hostile.
fn page(folder: &Path) -> Page {
    // Long enough that a busy machine comes to listen before they end.
    let stock = clip(folder, "stock.wav", "wav pcm16 24000 mono", 96_000, 0.2);
    let new = clip(folder, "new.wav", "wav pcm16 44100 stereo", 176_400, 0.4);
    let hostile =
        "<script>window.bad=1</script><img src=http://canary.invalid/x onerror=window.bad=2>\"'&";
    let names = ["sfx/gull_1.ogg", "sfx/gull_2.ogg", "deck/horn.wav", hostile];
    let cards = names.iter().enumerate().map(|(at, name)| Card {
        number: at + 1,
        slot: (*name).to_owned(),
        clip: if at == 3 { hostile.to_owned() } else { format!("takes/{at}.wav") },
        state: if at == 2 { "unchanged" } else { "new" }.to_owned(),
        kind: "ogg vorbis".to_owned(),
        family: name.starts_with("sfx").then(|| "sfx/gull_#.ogg".to_owned()),
        notices: if at == 1 || at == 3 {
            let text = if at == 3 { hostile.to_owned() } else { "too loud".to_owned() };
            vec![Told { text, help: Some("--level stock".to_owned()) }]
        } else {
            Vec::new()
        },
        decisions: vec![(hostile.to_owned(), hostile.to_owned())],
        lines: format!("[[replace]]\nslot = '{name}'\n"),
        stock: (at != 2).then(|| side(&stock, -20.0, None)),
        new: Some(side(&new, -12.0 - at as f64, Some((4_100, 40_100)))),
    });
    Page {
        id: "test".to_owned(),
        title: format!("Proof of {hostile}"),
        job: "quay".to_owned(),
        facts: vec![("target".to_owned(), hostile.to_owned())],
        notes: vec![hostile.to_owned()],
        problems: vec![Told { text: hostile.to_owned(), help: Some(hostile.to_owned()) }],
        cards: cards.collect(),
        made: "Made by a test".to_owned(),
        files: "page.files".to_owned(),
        ..Page::default()
    }
}

fn written(folder: &Path, name: &str, page: &Page) -> PathBuf {
    let path = folder.join(name);
    let mut bytes = Vec::new();
    page.write(&mut bytes).unwrap();
    std::fs::write(&path, bytes).unwrap();
    path
}

#[test]
fn found_sorted_marked_and_never_fooled() {
    let Some(driver) = Driver::start() else { return };
    run(async {
        let folder = tempfile::tempdir().unwrap();
        let page = written(folder.path(), "page.html", &page(folder.path()));
        let client = driver.client("1280,800").await;
        open(&client, &page).await;
        // What is hostile in names is text.
        assert_eq!(js(&client, "return window.bad ?? null").await, Value::Null);
        assert_eq!(
            js(&client, "return document.querySelectorAll('main img').length").await,
            json!(0)
        );
        assert_eq!(shown(&client).await.len(), 4);
        // Find, filter, sort.
        let find = client.find(Locator::Id("find")).await.unwrap();
        find.send_keys("gull").await.unwrap();
        assert_eq!(shown(&client).await, ["sfx/gull_1.ogg", "sfx/gull_2.ogg"]);
        find.clear().await.unwrap();
        js(&client, "document.getElementById('find').dispatchEvent(new Event('input'))").await;
        let choose = |id: &str, value: &str| {
            format!(
                "const e = document.getElementById('{id}'); e.value = '{value}'; e.dispatchEvent(new Event('input'))"
            )
        };
        js(&client, &choose("show", "told")).await;
        assert_eq!(shown(&client).await.len(), 2);
        js(&client, &choose("show", "state:unchanged")).await;
        assert_eq!(shown(&client).await, ["deck/horn.wav"]);
        js(&client, &choose("show", "")).await;
        js(&client, &choose("sort", "slot")).await;
        assert_eq!(shown(&client).await[1..3], ["deck/horn.wav", "sfx/gull_1.ogg"]);
        js(&client, &choose("sort", "difference")).await;
        assert_eq!(shown(&client).await[0], "sfx/gull_1.ogg");
        js(&client, &choose("sort", "number")).await;
        // Marks by keys alone; they are there again when the page is.
        press(&client, "g").await;
        press(&client, &format!("{}a", char::from(Key::Down))).await;
        press(&client, "n").await;
        client.active_element().await.unwrap().send_keys("too long").await.unwrap();
        client.refresh().await.unwrap();
        let marks = js(
            &client,
            "return [...document.querySelectorAll('td.mark')].map((c) => c.textContent)",
        )
        .await;
        assert_eq!(marks, json!(["good", "again: too long", "", ""]));
        // What is saved is what `install --only-approved` reads.
        let saved = later(
            &client,
            "const real = URL.createObjectURL; URL.createObjectURL = (blob) => { blob.text().then(done); return real(blob); }; document.getElementById('export').click();",
        );
        let saved: Value = serde_json::from_str(saved.await.as_str().unwrap()).unwrap();
        assert_eq!(saved["job"], "quay");
        assert_eq!(
            saved["marks"][1],
            json!({ "slot": "sfx/gull_2.ogg", "mark": "again", "note": "too long" })
        );
        // Help opens and closes.
        press(&client, "?").await;
        assert_eq!(js(&client, "return document.getElementById('help').open").await, json!(true));
        let asked =
            js(&client, "return performance.getEntriesByType('resource').map((e) => e.name)").await;
        let asked: Vec<String> = serde_json::from_value(asked).unwrap();
        assert!(asked.iter().all(|name| !name.starts_with("http")), "{asked:?}");
        client.close().await.unwrap();
        tokio::time::sleep(Duration::from_millis(500)).await;
        let log = std::fs::read_to_string(driver.net_log()).unwrap_or_default();
        assert!(!log.is_empty() && !log.contains("canary.invalid"));
    });
}

/// The graph itself: the loop comes round after exactly its frames, the seam is the two seconds around it, levels and
/// channels are as asked.
#[test]
fn what_is_heard_is_exact() {
    let Some(driver) = Driver::start() else { return };
    run(async {
        let folder = tempfile::tempdir().unwrap();
        let page = written(folder.path(), "page.html", &page(folder.path()));
        let client = driver.client("1280,801").await;
        open(&client, &page).await;
        let found = later(
            &client,
            "const card = document.querySelector('.card'); const draw = needle.drawOf(card, 'new');
             const sound = await needle.soundOf(draw);
             const rate = sound.buffer.sampleRate, [start, end] = sound.looped;
             const context = new OfflineAudioContext(2, 3 * rate, rate);
             const source = context.createBufferSource(); source.buffer = sound.buffer; source.loop = true;
             source.loopStart = start / rate; source.loopEnd = end / rate;
             needle.wire(context, source, 1); source.start();
             const heard = (await context.startRendering()).getChannelData(0), own = sound.buffer.getChannelData(0);
             let worst = 0;
             for (let at = 0; at < 3 * rate; at++) {
               const from = at < end ? at : start + (at - end) % (end - start);
               worst = Math.max(worst, Math.abs(heard[at] - own[from]));
             }
             const seam = needle.seamOf(new AudioContext({ sampleRate: rate }), sound).getChannelData(0);
             const side = seam.length / 2;
             done({ rate, frames: sound.buffer.length, worst, side, ends: seam[side - 1] - own[end - 1], begins: seam[side] - own[start] })",
        )
        .await;
        assert_eq!(
            (found["rate"].as_f64(), found["frames"].as_f64()),
            (Some(44_100.0), Some(176_400.0)),
            "{found}"
        );
        assert!(found["worst"].as_f64().unwrap() < 1e-6, "{found}");
        assert_eq!((&found["ends"], &found["begins"]), (&json!(0), &json!(0)), "{found}");
        assert_eq!(found["side"].as_f64(), Some(36_000.0));
        // Mono is the mean of both channels, a gain a gain.
        let found = later(
            &client,
            "needle.asked.mono = true;
             const context = new OfflineAudioContext(2, 1000, 44100);
             const buffer = context.createBuffer(2, 1000, 44100);
             buffer.getChannelData(0).fill(0.5); buffer.getChannelData(1).fill(-0.1);
             const source = context.createBufferSource(); source.buffer = buffer;
             needle.wire(context, source, 0.5); source.start();
             const heard = await context.startRendering(); needle.asked.mono = false;
             done([heard.getChannelData(0)[500], heard.getChannelData(1)[500]])",
        )
        .await;
        let both: [f64; 2] = serde_json::from_value(found).unwrap();
        assert!(both.iter().all(|one| (one - 0.1).abs() < 1e-6), "{both:?}");
        // Played by keys: the other side goes on at the same place.
        press(&client, " ").await;
        let wait = "for (let turn = 0; turn < 100 && !(needle.playing() && needle.place() > 0.2); turn++) await new Promise((go) => setTimeout(go, 50));";
        let place = later(&client, &format!("{wait} done(needle.place())")).await.as_f64().unwrap();
        assert!(place > 0.2, "{place}");
        press(&client, "x").await;
        let found = later(
            &client,
            "for (let turn = 0; turn < 100 && needle.playing()?.side !== 'stock'; turn++) await new Promise((go) => setTimeout(go, 20));
             done([needle.playing()?.side, needle.place()])",
        )
        .await;
        assert_eq!(found[0], "stock", "{found}");
        assert!(found[1].as_f64().unwrap() > 0.15, "{found}");
        press(&client, " ").await;
        let stopped = later(
            &client,
            "for (let turn = 0; turn < 100 && needle.playing(); turn++) await new Promise((go) => setTimeout(go, 20));
             done(!needle.playing())",
        );
        assert_eq!(stopped.await, json!(true));
        client.close().await.unwrap();
    });
}

/// Sounds beside the page come when they are played, and the page still asks nobody else.
#[test]
fn sounds_beside_the_page() {
    let Some(driver) = Driver::start() else { return };
    run(async {
        let folder = tempfile::tempdir().unwrap();
        let mut page = page(folder.path());
        let files = files_beside(Path::new("page.html"));
        std::fs::create_dir(folder.path().join(&files)).unwrap();
        let new = page.cards[0].new.as_mut().unwrap();
        let Sounds::Inline { bytes, .. } = std::mem::take(&mut new.sound) else { panic!() };
        let (file, script) = (format!("{files}/a.flac"), format!("{files}/a.js"));
        std::fs::write(folder.path().join(&file), &bytes).unwrap();
        let mut text = std::fs::File::create(folder.path().join(&script)).unwrap();
        hand_over(&script, &mut bytes.as_slice(), &mut text).unwrap();
        new.sound = Sounds::Beside { file, script };
        let page = written(folder.path(), "page.html", &page);
        let client = driver.client("1280,802").await;
        open(&client, &page).await;
        let found = later(
            &client,
            "const draw = needle.drawOf(document.querySelector('.card'), 'new'); done((await needle.soundOf(draw)).buffer.length)",
        )
        .await;
        assert_eq!(found, json!(176_400));
        client.close().await.unwrap();
    });
}

/// A thousand slots open in under two seconds.
#[test]
fn a_thousand_slots() {
    let Some(driver) = Driver::start() else { return };
    run(async {
        let folder = tempfile::tempdir().unwrap();
        let mut page = page(folder.path());
        let model = page.cards[0].clone();
        let short = clip(folder.path(), "short.wav", "wav pcm16 8000 mono", 800, 0.3);
        let both = side(&short, -20.0, None);
        page.cards = (1..=1000)
            .map(|number| Card {
                number,
                slot: format!("sfx/slot_{number}.wav"),
                stock: Some(both.clone()),
                new: Some(both.clone()),
                ..model.clone()
            })
            .collect();
        let page = written(folder.path(), "page.html", &page);
        let client = driver.client("1280,803").await;
        open(&client, &page).await;
        let times = js(
            &client,
            "const t = performance.getEntriesByType('navigation')[0]; return [t.responseEnd, t.domInteractive, t.loadEventEnd]",
        );
        let (times, size) = (times.await, std::fs::metadata(&page).unwrap().len());
        println!("1,000 slots, {size} bytes: read, parsed and open after {times} ms");
        assert_eq!(shown(&client).await.len(), 1000);
        press(&client, &char::from(Key::Down).to_string()).await;
        assert_eq!(js(&client, "return needle.current().dataset.number").await, json!("2"));
        client.close().await.unwrap();
    });
}

/// Axe finds no fault, at the sizes of a desk and of a hand, in both schemes of colours.
#[test]
fn no_fault_of_accessibility() {
    let Some(driver) = Driver::start() else { return };
    let axe = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/browser/package/axe.min.js");
    let Ok(axe) = std::fs::read_to_string(axe) else {
        println!("not run: there is no axe-core (scripts/browser fetches it)");
        return;
    };
    run(async {
        let folder = tempfile::tempdir().unwrap();
        let mut page = page(folder.path());
        // Its policy would keep the checker out.
        page.title = "Proof of quay".to_owned();
        let path = written(folder.path(), "page.html", &page);
        let text = std::fs::read_to_string(&path).unwrap();
        let open_page = text.replace("http-equiv=\"Content-Security-Policy\"", "name=\"policy\"");
        std::fs::write(&path, open_page).unwrap();
        for size in ["1280,804", "390,844"] {
            let client = driver.client(size).await;
            open(&client, &path).await;
            js(&client, "document.querySelectorAll('details').forEach((d) => { d.open = true; })")
                .await;
            js(&client, &axe).await;
            let faults = later(
                &client,
                "const found = await axe.run(document, { resultTypes: ['violations'] });
                 done(found.violations.map((v) => v.id + ': ' + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(' | ')))",
            )
            .await;
            assert_eq!(faults, json!([]), "{size}: {faults:#}");
            client.close().await.unwrap();
        }
    });
}

/// Without scripts there are tables, pictures and players.
#[test]
fn without_scripts() {
    let folder = tempfile::tempdir().unwrap();
    let page = written(folder.path(), "page.html", &page(folder.path()));
    let text = std::fs::read_to_string(page).unwrap();
    assert_eq!(text.matches("<audio controls").count(), 7);
    assert!(text.contains("<table id=\"table\">") && text.contains("class=\"wave\""));
    assert!(!text.contains("<script>window.bad") && text.contains("&#60;script&#62;window.bad"));
}
