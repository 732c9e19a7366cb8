// The shelf: rendered media, found by what they stand for. A frame is sealed exactly when the shelf has the fingerprint
// that the frame has now; nothing is ever marked stale, it just no longer matches. It is the sole owner of rendered
// files: nobody else writes, moves or removes them.
//
//   auto shelf = *Shelf::open("/media/fast/shelf");
//   Route route = shelf->route(*program);         // what answers each frame
//   auto draft = shelf->begin(form, bytes, ".mov");  // room is held, others make way
//   ... write draft->path ...
//   shelf->add(std::move(chunk), std::move(*draft));
#pragma once
#include <absl/container/flat_hash_map.h>
#include <absl/container/flat_hash_set.h>

#include <atomic>
#include <functional>
#include <future>
#include <map>
#include <mutex>
#include <shared_mutex>

#include "base/database.h"
#include "base/large_pages.h"
#include "render/program.h"
#include "shelf/piece.h"

namespace gc {

/// Names of pictures. They are hashes already, so their lower half serves as one.
using NameSet = absl::flat_hash_set<Hash128, std::hash<Hash128>>;

/// What is wrong with a piece, or nothing.
struct PieceCheck {
  std::string file, timeline, segment;
  Frames frames = 0;
  std::string wrong;  ///< a sentence; empty: whole
};

/// A place where rendered media lie.
struct ShelfVolume {
  std::string folder;
  bool own = false;                          ///< the shelf's own, where its index lies too
  std::optional<std::uint64_t> budget;       ///< most bytes that rendered media may take there
  std::uint64_t floor = std::uint64_t{1} << 30;  ///< bytes that stay free on its drive
  double read_mb_s = 0;                      ///< measured; 0: not known
  bool available = true;
  std::uint64_t bytes = 0;  ///< of rendered media, descriptions counted
  std::size_t pieces = 0;
};

/// Room for a file that is being written. It is given back when this goes without having been added.
class Draft {
 public:
  Draft(Draft&&) noexcept;
  Draft& operator=(Draft&&) noexcept;
  ~Draft();
  fs::path path;

 private:
  friend class Shelf;
  Draft() = default;
  std::shared_ptr<class Shelf> shelf_;
  std::int64_t row_ = 0;  ///< of the room that is held
  std::string volume_;
  std::uint64_t room_ = 0;
};

/// Which pieces are meant.
struct Selection {
  enum class What { all, timeline, closed, unmatched, older, chosen } what = What::chosen;
  std::string timeline;            ///< its name
  int days = 0;                    ///< older: not read for so long
  std::vector<std::string> files;  ///< chosen: names or how they begin
};

/// What cleaning frees and what it costs.
struct CleanReport {
  std::size_t pieces = 0;
  Frames frames = 0;
  std::uint64_t bytes = 0;
  double seconds_to_make = 0;  ///< again, as far as it is known what they took
  std::vector<std::string> files;
};

/// Pieces that were taken onto a shelf.
struct TakenIn {
  std::size_t pieces = 0, known = 0;  ///< new here; there already
  std::vector<std::string> refused;   ///< file and why
};

class Shelf : public SealLookup, public std::enable_shared_from_this<Shelf> {
 public:
  /// Opens or makes the shelf by its index. Its files are looked at in the background from then on: those that are gone, changed
  /// or cannot be looked at answer nothing, but stay recorded; pieces that killed processes of this machine left half written
  /// are removed. Everything but find() and report_broken() waits for that. A folder that may be read
  /// but not written to is used as it is, by what stands beside its pieces; an index that cannot be used is set aside
  /// and made again.
  static Result<std::shared_ptr<Shelf>> open(const fs::path& folder);
  ~Shelf() override;

  // Looking up. Any number of threads at once.
  /// Waits for no volume. A file that was not looked at yet and turns out not to be right is told by report_broken().
  std::optional<SealHit> find(const Hash128& name) const override;
  bool has_taps() const override { return taps_ > 0; }
  /// The piece answers nothing until look_again finds its file whole, and nothing more in this session when its
  /// file is there and still could not be decoded.
  void report_broken(const SealHit& hit) const override;
  /// Looks whether pieces that could not be read are back, and what other programs have added or removed. Takes as long
  /// as the volumes do.
  void look_again() const;
  /// Until the files have been looked at since opening: for whoever asks find() what has to be made, and does not read it.
  void settled() const;
  /// What answers each frame of the program. Broken: the shelf has this stretch of the segment as it was before.
  /// What stays the same after an edit is not worked out again.
  Route route(const Program& program) const;

  // Writing.
  bool writable() const { return writable_; }
  /// Holds room for a piece of about so many bytes and names the file to write. Where a budget or a drive has not so
  /// much left, what is worth least makes way: first what was cleaned away, then what answers nothing that is open or was
  /// read within a day, then by time to make × chance to be wanted ÷ bytes. Pinned and protected pieces never go.
  /// Fails with by how much it falls short.
  Result<Draft> begin(std::uint64_t bytes, const std::string& extension, double needs_mb_s = 0);
  /// More room for a draft whose file grew beyond what was thought.
  Result<void> grow(Draft& draft, std::uint64_t bytes);
  /// Records a finished piece and gives it its final name, durably.
  Result<void> add(Chunk chunk, Draft draft);
  /// Pictures of this timeline are wanted: they go last. Replaces what was said of a timeline of this name.
  void want(const ProgramPtr& program);
  /// As long as what it returns lives, pieces with one of these frames are not evicted by this process: a job or a review
  /// needs them.
  using Protection = std::shared_ptr<const NameSet>;
  Protection protect(const std::vector<Hash128>& names);

  // Keeping house.
  std::vector<ShelfVolume> volumes() const;
  /// Adds a volume or changes what is said of it. Its folder is made.
  Result<void> set_volume(const ShelfVolume& volume);
  /// What a selection would free. `open` are timelines whose pictures count as matched.
  CleanReport look(const Selection& what, const std::vector<ProgramPtr>& open = {}) const;
  /// Cleans it away. Until their room is needed or purge() is called, restore() brings the pieces back.
  Result<CleanReport> clean(const Selection& what, const std::vector<ProgramPtr>& open = {});
  Result<CleanReport> restore();
  CleanReport removed() const;  ///< what restore() would bring back
  /// Deletes the files of what was cleaned away.
  Result<CleanReport> purge();
  Result<std::size_t> pin(const Selection& what, bool pinned);
  /// Moves all pieces to another volume, one after another: each is copied, read back and recorded before its old file
  /// goes. `progress` as in verify().
  Result<CleanReport> move_to(const fs::path& folder, const std::function<bool(std::size_t, std::size_t)>& progress = {});
  /// Copies readable pieces that hold one of these frames into a folder, each with what stands beside it, for another shelf to
  /// take. `progress` as in verify().
  Result<CleanReport> give(const NameSet& names, const fs::path& folder, const std::function<bool(std::size_t, std::size_t)>& progress = {}) const;
  /// Takes copies of the pieces in such a folder. Each is read back: one whose pictures are not those that were written is
  /// refused. The folder stays as it is. Fails when there is no room; what was taken before it stays.
  Result<TakenIn> take(const fs::path& folder, const std::function<bool(std::size_t, std::size_t)>& progress = {});
  /// Removes the pieces that frames of this program are answered from, and no others.
  Result<void> discard(const Program& program);
  /// Reads every picture of every piece and holds it against its checksum. What is damaged answers nothing any more.
  std::vector<PieceCheck> verify(const std::function<bool(std::size_t done, std::size_t all)>& progress = {}) const;
  /// Takes pieces in that lie in the folders and that the index does not have, by what stands beside each; how many.
  Result<int> rebuild();
  /// Empty when the index is whole, or there is none; else what is wrong with it.
  std::string damage() const { return database_.is_open() ? database_.damage() : ""; }
  /// Every piece that is there, largest first; not what was cleaned away.
  std::vector<Chunk> pieces() const;

  std::uint64_t bytes() const;
  std::size_t chunks() const;
  const fs::path& folder() const { return folder_; }
  /// Bytes of pieces that answer nothing of these timelines.
  std::uint64_t unmatched_bytes(const std::vector<ProgramPtr>& open) const;

 private:
  friend class Draft;
  enum class Reach : std::uint8_t { readable, away, damaged };
  struct alignas(64) Piece {
    std::atomic<Reach> reach = Reach::readable;
    std::atomic<bool> read = false;  ///< since its time of use was written down
    bool overlaps = false;           ///< another piece has some of its frames too
    Chunk chunk;
  };
  /// Where a picture is: eight bytes, so that of a million as many as possible lie in a cache. A few bits of the name tell
  /// nearly every other name apart without looking into the piece.
  class Place {
   public:
    /// Frames of a piece that can be found; one file has never so many.
    static constexpr std::size_t kMost = std::size_t{1} << 17;
    Place(const Piece* piece, std::size_t index)
        : bits_((reinterpret_cast<std::uintptr_t>(piece) / alignof(Piece)) << 23 | index << 6 | tag_of(piece->chunk.frames[index])) {}
    Piece* piece() const { return reinterpret_cast<Piece*>((bits_ >> 23) * alignof(Piece)); }
    std::uint32_t index() const { return static_cast<std::uint32_t>(bits_ >> 6 & (kMost - 1)); }
    const Hash128& name() const { return piece()->chunk.frames[index()]; }
    bool may_be(const Place& other) const { return ((bits_ ^ other.bits_) & 63) == 0; }
    bool is_of(const Hash128& name) const {
      if ((bits_ & 63) != tag_of(name)) return false;
      // Nearly always it is, and what is asked for next lies elsewhere in memory: it is fetched at the same time.
      const Chunk& c = piece()->chunk;
      __builtin_prefetch(c.sums.data() + index());
      __builtin_prefetch(c.file.data());
      return c.frames[index()] == name;
    }

   private:
    static std::uint64_t tag_of(const Hash128& name) { return name.hi & 63; }
    std::uint64_t bits_;  ///< 41 of the address (a program's are below 2^47), 17 of the index, 6 of the name
  };
  /// A place with the hash of its name at hand.
  struct Arrival {
    std::size_t hash;
    Place place;
  };
  /// Places are found by the names of their pictures.
  struct ByName {
    using is_transparent = void;
    std::size_t operator()(const Hash128& name) const { return std::hash<Hash128>()(name); }
    std::size_t operator()(const Place& p) const { return (*this)(p.name()); }
    std::size_t operator()(const Arrival& a) const { return a.hash; }
    bool operator()(const Place& a, const Hash128& b) const { return a.is_of(b); }
    bool operator()(const Place& a, const Place& b) const { return a.may_be(b) && a.name() == b.name(); }
    bool operator()(const Place& a, const Arrival& b) const { return (*this)(a, b.place); }
  };
  using Names = NameSet;
  struct Budget;
  struct Listing;
  class Placing;

  static std::size_t findable(const Chunk& chunk);  ///< how many of its frames
  Result<void> load() const;
  /// What the index says that lies on each volume.
  using Recorded = std::map<std::string, std::size_t>;
  using Listings = std::map<std::string, std::future<Listing>>;
  Listings listings_of(const Recorded& recorded) const;  ///< begins to look through the folders, all at once
  void look_at_files(const Recorded& recorded, Listings listings, const Names& doubled) const;
  Result<void> take_in(const Recorded& recorded, const std::map<std::string, Listing>& folders) const;
  void say_away(int pieces) const;
  /// Of pieces that have the same frame the latest that can be read answers; locked for writing.
  void answer_doubled(const Names& doubled) const;
  void index(Chunk chunk, Reach reach) const;  ///< locked for writing
  void forget(const std::string& file) const;  ///< locked for writing
  /// The later of two pieces answers a frame, unless only the earlier can be read; locked for writing.
  void answer(Place place) const;
  Result<void> record(const Chunk& chunk) const;
  std::string file_of(const Chunk& chunk) const;
  fs::path chunks_of(const std::string& volume) const;
  bool whole(const Chunk& chunk) const;
  Result<std::string> lease() const;
  void end_lease() const;
  Result<fs::path> temporary_in(const std::string& volume, const std::string& extension) const;
  Result<void> describe(const Chunk& chunk, const std::string& description) const;
  Result<std::pair<std::string, std::int64_t>> hold(std::uint64_t bytes, double needs_mb_s,
                                                    const std::optional<std::string>& only, std::int64_t row);
  void release(std::int64_t row) const;
  Names wanted() const;
  std::vector<ShelfVolume> volumes_now() const;  ///< without waiting until the files have been looked at
  std::vector<const Piece*> selected(const Selection& what, const std::vector<ProgramPtr>& open) const;
  Result<CleanReport> erase(const std::vector<std::string>& files) const;
  Result<void> erase_rows(const std::vector<std::string>& files) const;
  void note_use() const;

  fs::path folder_;
  mutable Database database_;
  bool writable_ = true;
  mutable std::shared_mutex mutex_;
  mutable std::vector<std::unique_ptr<Piece>> pieces_;
  mutable absl::flat_hash_map<std::string_view, Piece*> by_file_;  ///< by the name that the piece holds
  mutable absl::flat_hash_set<Place, ByName, ByName, LargePages<Place>> places_;
  mutable std::atomic<int> taps_ = 0;               ///< pieces of something else than finished frames, those cleaned away not counted
  mutable std::atomic<std::uint64_t> changes_ = 0;  ///< of what is there, so that routes know
  mutable std::mutex writing_;
  mutable std::string lease_;  ///< what names of half-written pieces begin with
  mutable int names_ = 0;
  mutable std::int64_t seen_version_ = 0;  ///< of the database, to see what others change
  std::map<std::string, ProgramPtr> wanted_;
  std::vector<std::weak_ptr<const NameSet>> protected_;
  /// What was worked out of an interval: names of its frames, and what is fetched for them.
  struct Known;
  mutable std::mutex known_mutex_;
  mutable std::shared_ptr<Known> known_;
  mutable std::mutex looking_mutex_;
  mutable std::shared_future<void> looking_;  ///< at the files; last, so that it ends first
};

/// Every name under which rendered media may answer something of the program.
NameSet names_of(const Program& program);

}  // namespace gc
