// Parts of OpenTimelineIO documents: schemas, times, references, and the timelines that a document holds.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "base/error.h"
#include "base/json.h"
#include "base/rational.h"
#include "interchange/otio_words.h"

namespace gc::otio {

/// Thrown inside the reader only. What is wrong with one item makes that item offline.
struct Bad {
  Error error;
};
/// What is wrong with the whole: turned into an Error at the reader's edge.
struct Unusable {
  Error error;
};
/// Throws Unusable.
[[noreturn]] void give_up(std::string what, std::string where, std::string remedy);
/// Throws Bad.
[[noreturn]] void refuse(std::string what, std::string where, std::string remedy);

std::string schema_of(const Json& object);
/// Whatever its version.
bool is_a(const Json& object, std::string_view name);
/// Our own part of an object's metadata; an empty object where there is none.
const Json& ours(const Json& object);
/// An object without some of its fields.
Json without(const Json& object, std::initializer_list<const char*> keys);

/// Place of a field's value among the names; the first when it is none of them.
std::size_t one_of(const Json& object, const char* key, Names names);
/// A number from `least` to `most` as a whole one; refuses others.
int whole(const Json& object, const char* key, int fallback, int least, int most, const std::string& at);

struct Time {
  double value = 0;
  Rate rate;
};
/// Refuses what is not finite, not possible or absurd.
Time time_of(const Json& object, const std::string& at);
/// Whole counts are taken as they are; parts of one (12.5 at a rate of 1) by time.
Frames at_rate(const Time& t, Rate rate);

/// A timeline in a document: where, and what it is called.
struct Found {
  std::string place, name;  ///< place as in RFC 6901; empty: the whole
};
/// Timelines of a document: itself, or those of a collection, however deep.
void find_timelines(const Json& node, const std::string& place, std::vector<Found>& all, int depth = 0);
/// The one that is meant, by its name, its number from 1, or its place. Gives up where that is none, or not clear.
Found chosen(const Json& root, const std::string& where, const std::string& wanted);

/// "drop_frame": true and the like, wherever in the metadata other programs put it.
std::optional<bool> find_drop_frame(const Json& node, int depth = 0);

/// The media reference of a clip that plays; null where it has none.
const Json* active_reference(const Json& clip);
/// Path pattern of an ImageSequenceReference, its numbers and rate left out.
std::string sequence_url(const Json& reference, const std::string& at);
/// A sequence's base may be percent-encoded; the run of numbers in its name ("%04d") is no code.
std::string percent_kept(const std::string& url);

}  // namespace gc::otio
