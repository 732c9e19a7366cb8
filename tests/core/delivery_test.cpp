// The delivery: only the truth, from what is rendered where that loses nothing, whole or not there, and read back.
#include "base/clock.h"
#include "commands.h"
#include "desk/delivering.h"
#include "desk/delivery_score.h"
#include "desk/planning.h"
#include "desk/report_page.h"
#include "media/compare.h"
#include "media/convert.h"
#include "media/sound.h"
#include "release/verification.h"
#include "remedies.h"

namespace gc {
namespace {

using testing::HasSubstr;

class Delivering : public test::AllKinds {
 protected:
  /// Without the stage that only takes time: its picture is marked, so the gate stops it.
  Delivering() { timeline_ = with_effect_removed(*timeline_, "a", "heavy", now_utc()); }
  Frames sealed(FrameRange range) {
    const auto made = prerender(view_of(timeline_, stores_).played, *stores_.shelf, {range}, stores_.prerender_options({}, *timeline_), {});
    EXPECT_TRUE(made) << (made ? "" : made.error().text());
    return made ? made->frames : 0;
  }
  DeliveryOptions options(const std::string& name, const std::string& form) {
    DeliveryOptions o;
    o.to = dir_ / name, o.form = form, o.range = {0, 48}, o.notebook = nullptr;
    return o;
  }
  Result<DeliveryReport> delivered_to(const TimelinePtr& t, const DeliveryOptions& o, const std::function<bool(const DeliveryProgress&)>& progress = {}) {
    const View v = view_of(t, stores_);
    return deliver(v.delivered, stores_.shelf.get(), *stores_.notebook, *stores_.media, o, stores_.forecast_options(), progress);
  }
  Verification read_back(const TimelinePtr& t, const fs::path& file, bool burnt_in = false) {
    VerifyOptions v;
    v.range = {0, 48}, v.burnt_in = burnt_in;
    auto r = verify_delivery(file, view_of(t, stores_).delivered, *stores_.media, v, {});
    EXPECT_TRUE(r) << (r ? "" : r.error().text());
    return r ? *r : Verification{};
  }
  static std::string told(const Verification& v) {
    std::string all;
    for (const Finding& f : v.findings) all += f.what + "\n";
    return all;
  }
  std::string output_of(const std::string& command) {
    EXPECT_TRUE(test::shell("( " + command + " > '" + (dir_ / "out.txt").string() + "' )")) << command;
    return *read_file(dir_ / "out.txt", 1 << 24);
  }
  /// Lines of a hash list without its head.
  static std::vector<std::string> hashes(const std::string& text) {
    std::vector<std::string> all;
    std::istringstream in(text);
    for (std::string line; std::getline(in, line);)
      if (!line.empty() && line[0] != '#') all.push_back(line.substr(line.find_last_of(' ') + 1));
    return all;
  }
};

// A timeline that is half sealed, bypassed and proxied: refused, mended by one key, delivered, verified.
TEST_F(Delivering, NothingTemporaryIsEverDelivered) {
  ASSERT_TRUE(cache_stack(view_of(timeline_, stores_).played, *stores_.shelf, "a", 1, stores_.prerender_options({}, *timeline_), {}));
  timeline_ = applied("proxy:m:2").timeline;
  timeline_ = applied("scale:2").timeline;
  timeline_ = with_bypass(*timeline_, "a", "grade", true, now_utc());
  const DeliveryOptions o = options("kiln.mov", "vc3-hqx");
  const auto refused = delivered_to(timeline_, o);
  ASSERT_FALSE(refused);
  EXPECT_THAT(refused.error().text(), HasSubstr("May not be delivered yet: 3 things"));
  EXPECT_FALSE(fs::exists(o.to));
  timeline_ = with_lifted(*timeline_, [](const Slip&) { return true; }, now_utc());
  const auto done = delivered_to(timeline_, o);
  ASSERT_TRUE(done) << done.error().text();
  EXPECT_EQ(done->frames, 48);
  const Verification v = read_back(timeline_, o.to);
  EXPECT_TRUE(v.good()) << told(v);
  EXPECT_EQ(v.frames, 48);
  EXPECT_GT(v.psnr_db_worst, 36);
}

TEST_F(Delivering, WhatIsSealedInTheSameFormIsCopiedBitForBit) {
  ASSERT_EQ(sealed({0, 24}), 24);
  const DeliveryOptions o = options("kiln.mov", "vc3-hqx");
  const auto done = delivered_to(timeline_, o);
  ASSERT_TRUE(done) << done.error().text();
  EXPECT_EQ(DeliverySources::frames(done->sources.copied), 24);
  EXPECT_EQ(DeliverySources::frames(done->sources.live), 24);
  const auto joined = hashes(output_of("ffmpeg -v error -i '" + o.to.string() + "' -map 0:v -c copy -f framemd5 -"));
  ASSERT_EQ(joined.size(), 48u);
  std::vector<std::string> piece;
  for (const Chunk& c : stores_.shelf->pieces())
    if (c.kind == TapKind::frame) {
      const auto some = hashes(output_of("ffmpeg -v error -i '" + (dir_ / "shelf" / "chunks" / c.file).string() + "' -map 0:v -c copy -f framemd5 -"));
      piece.insert(piece.end(), some.begin(), some.end());
    }
  EXPECT_EQ(std::vector<std::string>(joined.begin(), joined.begin() + 24), piece);
  EXPECT_FALSE(fs::exists(dir_ / ".kiln.mov.parts")) << "nothing is left beside it";
}

// What loses a little is used only as far as a person allowed, by what a frame of each piece measures.
TEST_F(Delivering, RenditionsThatLoseALittleAreReusedWhereSomebodyAllowedIt) {
  ASSERT_EQ(sealed({0, 24}), 24);
  const auto near = [&](const char* name, double db) {
    DeliveryOptions o = options(name, "rdd36");
    o.reuse_db = db;
    const auto done = delivered_to(timeline_, o);
    EXPECT_TRUE(done) << (done ? "" : done.error().text());
    if (!done) return Frames{-1};
    const Verification v = read_back(timeline_, o.to);
    EXPECT_TRUE(v.good()) << told(v);
    EXPECT_EQ(DeliverySources::frames(done->sources.near) + DeliverySources::frames(done->sources.live), 48);
    const auto page = report_page(view_of(timeline_, stores_), stores_, o.to);
    EXPECT_TRUE(page) << (page ? "" : page.error().text());
    EXPECT_EQ(page && page->html.find("lose a little") != std::string::npos, !done->sources.near.empty()) << "the report says which frames";
    const Json note = *parse_json(*read_file(delivery_note(o.to)), "note");
    EXPECT_EQ(note["near"].size(), done->sources.near.size());
    return DeliverySources::frames(done->sources.near);
  };
  EXPECT_EQ(near("never.mov", 0), 0);
  EXPECT_EQ(near("allowed.mov", 30), 24);
  EXPECT_EQ(near("too-near.mov", 99), 0) << "no piece is as near as that";
}

TEST_F(Delivering, OtherProgramsReadRateTimecodeColoursAndCount) {
  auto t = std::make_shared<Timeline>(*timeline_);
  t->start = 86400;  // 01:00:00:00 at 24
  timeline_ = t;
  const DeliveryOptions o = options("kiln.mov", "rdd36");
  const auto done = delivered_to(timeline_, o);
  ASSERT_TRUE(done) << done.error().text();
  const std::string said = output_of("ffprobe -v error -count_frames -select_streams v:0 -show_entries "
                                     "stream=codec_name,width,height,r_frame_rate,nb_read_frames,color_primaries,color_transfer,color_space:stream_tags=timecode "
                                     "-of default=nw=1 '" + o.to.string() + "'");
  for (const char* line : {"codec_name=prores", "width=320", "height=180", "r_frame_rate=24/1", "nb_read_frames=48", "color_primaries=bt709",
                           "color_transfer=bt709", "color_space=bt709", "timecode=01:00:00:00"})
    EXPECT_THAT(said, HasSubstr(line));
  EXPECT_TRUE(read_back(timeline_, o.to).good()) << told(read_back(timeline_, o.to));
}

// ITU-T H.273: BT.2020 primaries are 9, SMPTE ST 2084 is 16, and the coded pictures say so themselves, whatever holds them.
TEST_F(Delivering, ReviewCopiesSayTheDisplaysColoursInTheirPictures) {
  auto t = std::make_shared<Timeline>(*timeline_);
  t->display_space = "PQ";
  for (const auto& [form, raw] : {std::pair{"h264", "h264"}, {"h265", "hevc"}}) {
    const DeliveryOptions o = options(std::string(form) + ".mp4", form);
    ASSERT_TRUE(delivered_to(t, o));
    const std::string stream = (dir_ / (std::string("raw.") + raw)).string();
    output_of("ffmpeg -v error -y -i '" + o.to.string() + "' -map 0:v -c copy -bsf:v " + raw + "_mp4toannexb -f " + raw + " '" + stream + "'");
    const std::string said = output_of("ffprobe -v error -show_entries stream=color_primaries,color_transfer -of default=nw=1 '" + stream + "'");
    EXPECT_THAT(said, testing::AllOf(HasSubstr("color_primaries=bt2020"), HasSubstr("color_transfer=smpte2084"))) << form;
  }
}

// Frame hashes of a lossless form are those that FFmpeg finds, and its pictures those of our live frames.
TEST_F(Delivering, TheManifestIsWhatFfmpegsFramehashWrites) {
  const DeliveryOptions o = options("kiln.mkv", "ffv1");
  ASSERT_TRUE(delivered_to(timeline_, o));
  const Verification v = read_back(timeline_, o.to);
  ASSERT_TRUE(v.good()) << told(v);
  EXPECT_GT(v.psnr_db_worst, 50);
  const auto ours = hashes(*read_file(v.manifest, 1 << 24));
  ASSERT_EQ(ours.size(), 48u);
  EXPECT_EQ(ours, hashes(output_of("ffmpeg -v error -i '" + o.to.string() + "' -map 0:v -f framehash -")));
}

TEST_F(Delivering, EveryFormIsDeliveredAndVerified) {
  for (const std::string& form : delivery_forms()) {
    SCOPED_TRACE(form);
    const bool pictures = form == "dpx" || form == "tiff" || form == "png" || form == "exr";
    DeliveryOptions o = options(pictures ? form + "/kiln.%04d." + form : "kiln-" + form + (form.starts_with("ffv1") ? ".mkv" : form.starts_with("h26") ? ".mp4" : ".mov"), form);
    o.range = {12, 24};
    const auto done = delivered_to(timeline_, o);
    ASSERT_TRUE(done) << done.error().text();
    VerifyOptions check;
    check.range = o.range, check.samples = 4;
    const fs::path file = pictures ? fs::path(sequence_path(o.to.string(), 0, 11, timeline_->rate)) : o.to;
    const auto v = verify_delivery(file, view_of(timeline_, stores_).delivered, *stores_.media, check, {});
    ASSERT_TRUE(v) << v.error().text();
    EXPECT_TRUE(v->good()) << told(*v);
    EXPECT_EQ(v->frames, 12);
  }
}

TEST_F(Delivering, GoesOnFromTheLastWholePieceAndIsTheSameThen) {
  DeliveryOptions whole = options("whole.mov", "rdd36");
  ASSERT_TRUE(delivered_to(timeline_, whole));
  DeliveryOptions o = options("stopped.mov", "rdd36");
  const auto stopped = delivered_to(timeline_, o, [](const DeliveryProgress& p) { return p.done < 30; });
  ASSERT_FALSE(stopped);
  EXPECT_THAT(stopped.error().text(), HasSubstr("What is rendered is kept"));
  EXPECT_FALSE(fs::exists(o.to)) << "never a file that looks finished and is not";
  Frames first = 0;
  const auto done = delivered_to(timeline_, o, [&](const DeliveryProgress& p) {
    if (first == 0 && p.what == "Rendering") first = p.done;
    return true;
  });
  ASSERT_TRUE(done) << done.error().text();
  const auto md5 = [&](const fs::path& f) { return hashes(output_of("ffmpeg -v error -i '" + f.string() + "' -map 0:v -c copy -f framemd5 -")); };
  EXPECT_EQ(md5(o.to), md5(whole.to));
}

TEST_F(Delivering, ASequenceGoesOnAndLeavesStrangersPicturesAlone) {
  DeliveryOptions o = options("dpx/kiln.%04d.dpx", "dpx");
  fs::create_directories(dir_ / "dpx");
  test::put(dir_ / "dpx" / "kiln.0030.dpx", "not ours");
  const auto refused = delivered_to(timeline_, o);
  ASSERT_FALSE(refused);
  EXPECT_THAT(refused.error().text(), HasSubstr("kiln.0030.dpx"));
  EXPECT_EQ(*read_file(dir_ / "dpx" / "kiln.0030.dpx", 100), "not ours");
  EXPECT_FALSE(fs::exists(dir_ / "dpx" / "kiln.0000.dpx")) << "it is looked at before anything is written";
  fs::remove(dir_ / "dpx" / "kiln.0030.dpx");
  ASSERT_FALSE(delivered_to(timeline_, o, [](const DeliveryProgress& p) { return p.done < 20; }));
  EXPECT_TRUE(fs::exists(dir_ / "dpx" / "kiln.0010.dpx"));
  const auto time = fs::last_write_time(dir_ / "dpx" / "kiln.0010.dpx");
  const auto done = delivered_to(timeline_, o);
  ASSERT_TRUE(done) << done.error().text();
  EXPECT_EQ(fs::last_write_time(dir_ / "dpx" / "kiln.0010.dpx"), time) << "what is there is not made again";
  EXPECT_TRUE(fs::exists(dir_ / "dpx" / "kiln.0047.dpx"));
}

TEST_F(Delivering, AFolderThatIsNotOursStaysWhereThePartsWouldGo) {
  fs::create_directories(dir_ / ".kiln.mov.parts");
  test::put(dir_ / ".kiln.mov.parts" / "mine.txt", "keep");
  EXPECT_FALSE(delivered_to(timeline_, options("kiln.mov", "rdd36")));
  EXPECT_EQ(*read_file(dir_ / ".kiln.mov.parts" / "mine.txt", 100), "keep");
}

// An hour of rendering that cannot be put together in the end would be an hour lost.
TEST_F(Delivering, AnEndingThatCannotHoldTheFormIsSaidBeforeAnythingIsMade) {
  for (const auto& [name, form] : {std::pair{"kiln.mov", "ffv1"}, {"kiln.mp4", "v210"}, {"kiln", "rdd36"}, {"kiln.wav", "rdd36"}}) {
    const auto r = delivered_to(timeline_, options(name, form));
    ASSERT_FALSE(r) << name << ' ' << form;
    EXPECT_EQ(r.error().fault, Fault::usage);
    EXPECT_NE(r.error().text().find("ending .m"), std::string::npos) << r.error().text();
    EXPECT_FALSE(fs::exists(dir_ / (std::string(".") + name + ".parts")));
  }
}

TEST_F(Delivering, ADamagedPieceIsNoticedAndMadeAnew) {
  ASSERT_EQ(sealed({0, 24}), 24);
  for (const Chunk& c : stores_.shelf->pieces()) {
    const fs::path file = dir_ / "shelf" / "chunks" / c.file;
    const auto time = fs::last_write_time(file);
    std::fstream f(file, std::ios::in | std::ios::out | std::ios::binary);
    f.seekp(static_cast<std::streamoff>(c.bytes / 2));
    f.write(std::string(2000, '\xa5').data(), 2000);
    f.close();
    fs::last_write_time(file, time);
  }
  const DeliveryOptions o = options("kiln.mov", "vc3-hqx");
  const auto done = delivered_to(timeline_, o);
  ASSERT_TRUE(done) << done.error().text();
  EXPECT_LT(DeliverySources::frames(done->sources.copied), 24);
  EXPECT_TRUE(read_back(timeline_, o.to).good()) << told(read_back(timeline_, o.to));
}

TEST_F(Delivering, AStrangersFileIsLeftAlone) {
  const DeliveryOptions o = options("kiln.mov", "rdd36");
  test::put(o.to, "not ours");
  const auto refused = delivered_to(timeline_, o);
  ASSERT_FALSE(refused);
  EXPECT_THAT(refused.error().text(), HasSubstr("did not deliver"));
  EXPECT_EQ(*read_file(o.to, 100), "not ours");
  DeliveryOptions again = o;
  again.replace = true;
  EXPECT_FALSE(delivered_to(timeline_, again)) << "nor is it when asked to replace";
  fs::remove(o.to);
  ASSERT_TRUE(delivered_to(timeline_, o));
  EXPECT_FALSE(delivered_to(timeline_, o)) << "ours is kept too, unless it is said";
  EXPECT_TRUE(delivered_to(timeline_, again));
}

TEST_F(Delivering, AReviewCopySaysWhatItIs) {
  DeliveryOptions o = options("review.mp4", "h264");
  o.burn_timecode = true, o.burn_text = "review copy";
  ASSERT_TRUE(delivered_to(timeline_, o));
  const Verification v = read_back(timeline_, o.to, true);
  EXPECT_TRUE(v.good()) << told(v);
  auto reader = FrameReader::open(o.to.string());
  const Image there = *to_image(**(*reader)->read(10), 320, 180);
  const Image live = delivered(timeline_, 10);
  const auto part = [](const Image& from, int first, int rows) {
    Image cut(from.width(), rows);
    std::copy_n(from.row(first), cut.floats(), cut.data());
    return cut;
  };
  EXPECT_LT(psnr(part(there, 165, 15), part(live, 165, 15)), psnr(part(there, 0, 160), part(live, 0, 160)) - 6) << "something is drawn at its lower edge";
}

TEST_F(Delivering, VerificationFindsWhatIsWrong) {
  const DeliveryOptions o = options("kiln.mov", "vc3-hqx");
  ASSERT_TRUE(delivered_to(timeline_, o));
  const TimelinePtr other = with_param(*timeline_, "a", "grade", "saturation", 0.1);
  const Verification graded = read_back(other, o.to);
  EXPECT_FALSE(graded.good()) << "the file has another grade";
  EXPECT_TRUE(test::shell("cd '" + dir_.path().string() + "' && ffmpeg -v error -y -i kiln.mov -frames:v 40 -c copy short.mov && "
                          "ffmpeg -v error -y -f lavfi -i color=black:s=320x180:r=24:d=2 -c:v dnxhd -profile:v dnxhr_hqx -pix_fmt yuv422p10le black.mov"));
  EXPECT_THAT(told(read_back(timeline_, dir_ / "short.mov")), HasSubstr("It has 40 frames, not 48."));
  // A manifest that lies there is held against, never overwritten.
  std::string kept = *read_file(manifest_of(o.to), 1 << 24);
  kept[kept.size() - 3] = kept[kept.size() - 3] == 'a' ? 'b' : 'a';
  test::put(manifest_of(o.to), kept);
  EXPECT_THAT(told(read_back(timeline_, o.to)), HasSubstr("not those of the manifest"));
  EXPECT_EQ(*read_file(manifest_of(o.to), 1 << 24), kept);
  const Verification black = read_back(timeline_, dir_ / "black.mov");
  EXPECT_GT(black.findings.size(), 40u) << "every black frame is held against the timeline";
}

class DeliveredSound : public testing::Test {
 protected:
  test::TempFolder dir_;
};

// Two tones of known pitch, one after the other: each second sounds as its source does.
TEST_F(DeliveredSound, IsMixedWhereItLies) {
  ASSERT_TRUE(test::shell("cd '" + dir_.path().string() + "' && ffmpeg -v error -y -f lavfi -i sine=440:d=4:r=48000 low.wav && "
                          "ffmpeg -v error -y -f lavfi -i sine=1000:d=4:r=44100 -c:a aac high.m4a"));
  test::Build b(256, 144);
  b.media("low", (dir_ / "low.wav").string(), 96).media("high", (dir_ / "high.m4a").string(), 96);
  b.track("V1").solid("s", 72, 0.2, 0.3, 0.4).track("A1").segment("l", "low", 0, 24).segment("h", "high", 24, 24);
  auto t = std::make_shared<Timeline>(*b.done());
  auto sound = std::make_shared<Track>(*t->tracks[1]);
  sound->video = false;
  t->tracks[1] = sound;
  std::vector<std::string> remarks;
  const std::vector<float> mix = mixed_sound(*t, {0, 72}, remarks);
  ASSERT_EQ(mix.size(), 3u * 48000 * 2);
  EXPECT_TRUE(remarks.empty());
  // Zero crossings tell the pitch.
  const auto pitch = [&](double from, double to) {
    int crossings = 0;
    const auto a = static_cast<std::size_t>(from * 48000), z = static_cast<std::size_t>(to * 48000);
    for (std::size_t i = a + 1; i < z; ++i) crossings += (mix[2 * i] > 0) != (mix[2 * (i - 1)] > 0);
    return crossings / 2.0 / (to - from);
  };
  EXPECT_NEAR(pitch(0.1, 0.9), 440, 4);
  EXPECT_NEAR(pitch(1.1, 1.9), 1000, 8);
  EXPECT_NEAR(pitch(2.1, 2.9), 0, 1) << "nothing lies there";
  // And in the file, as another program hears it.
  MediaCatalog media;
  const auto notebook = *Notebook::open(dir_ / "n.sqlite");
  DeliveryOptions o;
  o.to = dir_ / "kiln.mov", o.form = "vc3-sq", o.range = {0, 72};
  const auto done = deliver(Program::compile(t, media), nullptr, *notebook, media, o, {}, {});
  ASSERT_TRUE(done) << done.error().text();
  ASSERT_TRUE(test::shell("( ffprobe -v error -select_streams a:0 -show_entries stream=codec_name,duration,sample_rate,channels -of default=nw=1 '" +
                          o.to.string() + "' > '" + (dir_ / "a.txt").string() + "' )"));
  const std::string said = *read_file(dir_ / "a.txt", 1000);
  for (const char* line : {"codec_name=pcm_s24le", "sample_rate=48000", "channels=2", "duration=3.000000"}) EXPECT_THAT(said, HasSubstr(line));
  VerifyOptions v;
  v.range = {0, 72};
  const auto read = verify_delivery(o.to, Program::compile(t, media), media, v, {});
  ASSERT_TRUE(read);
  EXPECT_TRUE(read->good());
  EXPECT_NEAR(read->sound_seconds, 3, 1e-6);
  ASSERT_TRUE(test::shell("cd '" + dir_.path().string() + "' && ffmpeg -v error -y -i kiln.mov -map 0:v -map 0:a -c copy -t 3 -af atrim=0:2 -c:a pcm_s24le cut.mov"));
  v.manifest = false;
  const auto shorter = verify_delivery(dir_ / "cut.mov", Program::compile(t, media), media, v, {});
  ASSERT_TRUE(shorter);
  EXPECT_FALSE(shorter->good()) << "its sound ends a second early";
}

// What a form makes of these very pictures is tried before it is told how long it takes and how big it gets, of pictures in
// files of their own as well.
TEST_F(Delivering, SaysHowBigItGetsOnceSomePicturesWereTried) {
  const View view = view_of(timeline_, stores_);
  for (const std::string form : {"png", "dpx", "ffv1"}) {
    DeliveryOptions o = delivery_options(view, stores_, dir_ / form / (form == "ffv1" ? "whole.mkv" : "%04d." + form), form);
    o.range = {0, 48};
    const auto quoted = [&] { return delivery_quote(view.delivered, stores_.shelf.get(), *stores_.notebook, *stores_.media, o, stores_.forecast_options()); };
    ASSERT_TRUE(quoted()) << form;
    if (form != "ffv1") EXPECT_FALSE(quoted()->known) << form;
    // One trial ends after some seconds: a busy machine needs several for all contents.
    int trials = 0;
    for (auto tried = try_form(view, stores_, o, {}); *tried; tried = try_form(view, stores_, o, {}))
      ASSERT_LT(++trials, 10) << form << ": what is known is tried no more";
    EXPECT_GT(trials, 0) << form;
    const auto quote = quoted();
    EXPECT_TRUE(quote->known) << form;
    EXPECT_GT(quote->modelled_seconds, 0);
    const auto done = deliver(view.delivered, stores_.shelf.get(), *stores_.notebook, *stores_.media, o, stores_.forecast_options(), {});
    ASSERT_TRUE(done) << done.error().text();
    EXPECT_NEAR(static_cast<double>(quote->bytes) / static_cast<double>(done->bytes), 1, 0.15) << form;
  }
}

// Each piece is made durable, which takes the seat a while: pieces that can be shared end at every cut, those of review copies
// have 96 frames, and pictures in files of their own are none.
TEST_F(Delivering, CountsThePiecesThatItsFormIsMadeIn) {
  const View view = view_of(timeline_, stores_);
  const auto said = [&](const std::string& form) {
    DeliveryOptions o = delivery_options(view, stores_, dir_ / (form == "dpx" ? "%04d.dpx" : "whole.mov"), form);
    o.range = {0, 120};
    const auto quote = delivery_quote(view.delivered, stores_.shelf.get(), *stores_.notebook, *stores_.media, o, stores_.forecast_options());
    EXPECT_TRUE(quote) << form;
    return quote ? quote->modelled_seconds : -1;
  };
  std::map<std::string, double> before;
  const auto note = [&](float piece_ms) { stores_.notebook->add_encode(piece_key(), std::array{EncodeSample{piece_ms, 0}}); };
  note(0);
  for (const std::string form : {"rdd36", "h264", "dpx"}) before[form] = said(form);
  note(2000);  // one second on the mean
  EXPECT_NEAR(said("rdd36") - before["rdd36"], static_cast<double>(pieces_of(*view.delivered, {{0, 120}}).size()), 1e-3);
  EXPECT_NEAR(said("h264") - before["h264"], 2, 1e-3);
  EXPECT_NEAR(said("dpx") - before["dpx"], 0, 1e-3);
}

// A piece is read back and synced: a large one takes longer than a small one, and what renders took so is learnt.
TEST_F(Delivering, CountsTheBytesThatAreMadeDurable) {
  const View view = view_of(timeline_, stores_);
  DeliveryOptions o = delivery_options(view, stores_, dir_ / "whole.mov", "rdd36");
  o.range = {0, 120};
  const auto said = [&] { return *delivery_quote(view.delivered, stores_.shelf.get(), *stores_.notebook, *stores_.media, o, stores_.forecast_options()); };
  stores_.notebook->add_encode(piece_key(), std::array{EncodeSample{100, 0}});
  const auto before = said();
  note_piece(*stores_.notebook, 5000, 1000);
  EXPECT_NEAR(said().modelled_seconds, before.modelled_seconds, 1e-3) << "so few bytes tell nothing of more";
  note_piece(*stores_.notebook, 600, 10'000'000);
  EXPECT_NEAR(said().modelled_seconds - before.modelled_seconds, 0.05 * static_cast<double>(before.bytes) / 1e6, 1e-3) << "100 of the 600 ms are its records";
}

// Met is nine of ten within 15 %; one that failed, or whose time the seat did not know, is none of the nine.
TEST(MadeDeliveries, AreCountedAsTheGoalSays) {
  MadeDelivery good;
  good.said_s = 10, good.taken_s = 11, good.said_bytes = 100, good.bytes = 110;
  std::vector<MadeDelivery> all(10, good);
  all[0].said_s = 13;
  Json j = to_json(all);
  EXPECT_EQ(j["seconds_within"], 9);
  EXPECT_EQ(j["bytes_within"], 10);
  EXPECT_TRUE(j["met"].get<bool>());
  all[1].said_s.reset();
  EXPECT_FALSE(to_json(all)["met"].get<bool>()) << "it was not said";
  all[1] = good, all[1].failed = "the volume is full";
  j = to_json(all);
  EXPECT_EQ(j["seconds_within"], 8);
  EXPECT_EQ(j["bytes_within"], 9);
  EXPECT_FALSE(j["met"].get<bool>());
  EXPECT_FALSE(to_json(std::vector<MadeDelivery>{})["met"].get<bool>()) << "nothing was delivered";
}

class DeliveryByCommand : public test::Commands {};

TEST_F(DeliveryByCommand, SaysWhatScriptsAskFor) {
  const std::string cut = small(), to = (dir_ / "out" / "kiln.mov").string();
  const test::Ran r = gclk("deliver " + cut + " --to '" + to + "' --form vc3-hqx --verify --json");
  ASSERT_EQ(r.code, 0) << r.out;
  const Json j = r.json();
  EXPECT_EQ(j["frames"], 48);
  EXPECT_EQ(j["copied_frames"].get<int>() + j["decoded_frames"].get<int>() + j["live_frames"].get<int>(), 48);
  EXPECT_EQ(j["verified"], true);
  EXPECT_TRUE(fs::exists(j["manifest"].get<std::string>()));
  EXPECT_EQ(j["gate"]["may_deliver"], true);
  EXPECT_EQ(gclk("verify '" + to + "' " + cut).code, 0);
  ASSERT_EQ(gclk("bypass " + cut + " a b").code, 0);
  EXPECT_EQ(gclk("deliver " + cut + " --to '" + (dir_ / "no.mov").string() + "'").code, 1);
  EXPECT_FALSE(fs::exists(dir_ / "no.mov"));
  EXPECT_EQ(gclk("deliver " + cut + " --to x.mov --form film").code, 1) << "the gate is asked first";
}

}  // namespace
}  // namespace gc
