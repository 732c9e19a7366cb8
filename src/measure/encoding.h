// What encoding the pictures of a timeline takes, in time and in bytes. It depends on the pictures: the same form took 14 ms
// of one and 50 of the next.
#pragma once
#include "media/writer.h"
#include "measure/measure.h"

namespace gc {

/// Names contents whose pictures are about equally hard to encode: what the visible layers start from, with the effects that
/// change detail. Grades count for nothing.
Hash128 content_at(const Program& program, Frames frame);

/// Where the notebook keeps what encoding a frame takes; without a content, of any.
Hash128 encode_key(Form form, int width, int height, const Hash128& content = {});

/// Of one frame, means, ms; 0 when nothing is known.
struct EncodeCost {
  double wall_ms = 0;  ///< until the next one can begin
  double cpu_ms = 0;   ///< of all threads that the encoder has
  EncodeCost times(double k) const { return {wall_ms * k, cpu_ms * k}; }
};

/// What was measured of this form, raster and content; else of any content; else of the form in which finished frames of the
/// timeline are kept, times what this form takes against it.
EncodeCost encode_cost(const Notebook& notebook, const Timeline& timeline, Form form, int width, int height, const Hash128& content = {});

/// What opening and closing a file of this form takes, with what its first picture costs more than others, ms; 0 when nothing is
/// known. Every piece of rendered media is a file (seen: FFV1 50 to 100 ms, VC-3 7 to 21).
double file_ms(const Notebook& notebook, Form form, int width, int height);

/// A few pictures encoded into a file, one after another.
struct Encoded {
  std::vector<EncodeSample> samples;
  EncodeSample file{};  ///< see file_ms()
  float bytes = 0;      ///< of one frame, the file's share
};
Result<Encoded> encode_pictures(std::span<const FrameResult> pictures, Form form, const Timeline& timeline, const fs::path& file);
/// As copies of a source: read, brought to this size and encoded by one thread; reading is not counted.
Result<Encoded> encode_copies(std::span<const FramePtr> pictures, Form form, int width, int height, Rate rate, const fs::path& file);
/// Names the pictures of a source as they are copied.
Hash128 copy_content(const CompiledSegment& source);
/// A picture as a copy of its source has it: of interlaced sources with both fields joined.
Result<FramePtr> picture_for_copy(FrameReader& reader, bool joins_fields, Frames frame);
/// Reads and decodes pictures one after another as a copy of a source does, on one thread: what one takes.
Result<EncodeSample> read_copies(FrameReader& reader, bool joins_fields, FrameRange frames);
/// Where the notebook keeps that.
Hash128 copy_reading_key(const CompiledSegment& source);
/// Keeps it: of this content, and, unless it is a copy, whose pictures are encoded in another way, of any.
void note_encoded(Notebook& notebook, Form form, int width, int height, const Hash128& content, const Encoded& encoded, bool copy = false);

/// The same of pictures that are written one by one, as "png", "tiff", "exr" or "dpx", each of them durable.
Result<Encoded> write_pictures(std::span<const FrameResult> pictures, const std::string& kind, const fs::path& folder);
/// What was measured of such pictures of this content, else of any; 0 when nothing is known.
EncodeCost picture_cost(const Notebook& notebook, const std::string& kind, int width, int height, const Hash128& content = {});
/// Bytes of one: as noted of this content, else of any; else as many as its bits of three colours take uncompressed.
std::uint64_t picture_bytes(const Notebook& notebook, const std::string& kind, int width, int height, const Hash128& content = {});

/// Bytes of encoded frames, noted for pictures like these. `content`: whatever names them; pictures that no content is known
/// of go by what others of the same form and raster took.
void note_sizes(Notebook& notebook, Form form, int width, int height, const Hash128& content, std::span<const float> bytes);
/// Bytes of one frame: exact where all are alike; else as noted of this content, else of any; else about, by the raster alone.
std::uint64_t frame_bytes(const Notebook& notebook, Form form, int width, int height, const Hash128& content);
/// Whether frame_bytes() knows more than the raster.
bool size_is_known(const Notebook& notebook, Form form, int width, int height, const Hash128& content);

/// Notes that pictures have values, or transparency, that the form meant for them cannot keep, so that this one was taken.
void note_form_needed(Notebook& notebook, const Hash128& content, Form needed);
/// The form that pictures of this content needed when they were made or tried, or the one that is meant for them.
Form form_needed(const Notebook& notebook, const Hash128& content, Form meant);

/// Encodes a few pictures of every content of the range that is not known yet in this form, those first that fill most of it, for
/// about so many seconds. How many contents were measured.
Result<int> measure_encoding(const ProgramPtr& program, Notebook& notebook, Form form, FrameRange range, int workers, const fs::path& folder,
                             double seconds, const std::stop_token& stop);
/// The same of pictures that are written one by one.
Result<int> measure_pictures(const ProgramPtr& program, Notebook& notebook, const std::string& kind, FrameRange range, int workers,
                             const fs::path& folder, double seconds, const std::stop_token& stop);

}  // namespace gc
