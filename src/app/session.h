// The session: the desk as the window sees it. Everything that takes time runs on other threads and comes
// back as a signal; the interface thread never waits.
#pragma once
#include <QImage>
#include <QObject>
#include <QTimer>
#include <condition_variable>
#include <optional>
#include <stop_token>
#include <thread>

#include "app/task_queue.h"
#include "audit/explain.h"
#include "desk/derived.h"
#include "desk/planning.h"
#include "queue/journal.h"
#include "desk/recovery.h"
#include "desk/relink.h"
#include "desk/seats.h"
#include "desk/shelf_report.h"
#include "forecast/what_if.h"
#include "remedy/remedy.h"
#include "render/coverage.h"
#include "seat/seat.h"
#include "timeline/history.h"

namespace gc {

/// What the picture of a still shows.
enum class StillKind {
  sharp,    ///< the frame as it plays
  preview,  ///< the same at a lower scale; the sharp one is on its way
  unseen    ///< something in it shows only after rendering
};

/// What else can be shown of a frame.
struct LookOptions {
  bool compare = false;   ///< a remedy's picture beside the live one
  bool coverage = false;  ///< pixels that nothing covers
  bool operator==(const LookOptions&) const = default;
};

/// A remedy's picture and the live one.
struct Comparison {
  Frames frame = -1;
  QImage live, other, difference;
  QString text;
};

/// Background work that can be watched and stopped.
struct Work {
  enum class Kind { none, measuring, rendering, opening } kind = Kind::none;
  QString text;
  double share = 0;  ///< 0…1
};

class Session : public QObject, private Display {
  Q_OBJECT
 public:
  explicit Session(Stores stores, QObject* parent = nullptr);
  ~Session() override;

  // What there is. Interface thread only.
  bool has_timeline() const { return history_.has_value(); }
  TimelinePtr timeline() const { return history_ ? history_->now() : nullptr; }
  const DerivedPtr& derived() const { return derived_; }
  const std::optional<Seat>& seat() const { return seat_; }
  const std::optional<Playout>& playout() const { return playout_; }
  const std::optional<Audit>& last_audit() const { return audit_; }
  const std::optional<Explanation>& explanation() const { return explanation_; }  ///< of the last audit
  /// Whether what derived() says is of the present timeline and shelf.
  bool current() const {
    return deriving_ == 0 && derived_ && history_ && derived_->view.timeline == history_->now();
  }
  bool changed() const { return history_ && history_->changed(); }
  bool can_undo() const { return history_ && history_->can_undo(); }
  bool can_redo() const { return history_ && history_->can_redo(); }
  QString undo_text() const { return history_ ? QString::fromStdString(history_->undo_text()) : QString(); }
  QString redo_text() const { return history_ ? QString::fromStdString(history_->redo_text()) : QString(); }
  QString file() const { return file_; }
  const Work& work() const { return work_; }
  bool playing() const { return playing_; }
  PlayState play_state() const;
  const Stores& stores() const { return stores_; }

  // What can be asked for. All return at once.
  /// `number`: of the timeline, of a file that holds several; without it such a file is told by `several`.
  void open(const QString& file, const QString& number = {});
  /// Opens what a program that is gone left unsaved; it is still unsaved afterwards.
  void open_recovered(const RecoveryCopy& copy);
  /// Writes a segment's angles side by side into a new file, and opens it.
  void open_angles(const std::string& segment, const QString& file);
  /// Looks for such copies; told by `recoverable`.
  void look_for_recovery();
  void discard_recovery(const RecoveryCopy& copy);
  /// A file that another program has changed since it was read is left alone, unless it is to be written `over`;
  /// told by `changed_outside`.
  /// Returns the number that `saved` and `not_saved` tell this save by.
  int save(const QString& file, bool over = false);
  /// The edits since the last save are given up: no copy of them is kept.
  void give_up_edits();
  /// Puts a file at the head of the list of recent ones, or only asks for the list when it is empty.
  void note_recent(const QString& file);
  void edit(TimelinePtr next, const QString& what);
  void undo();
  void redo();
  void measure_again();
  void carry_out_plan();
  void stop_work();
  void play(FrameRange range, PlayMode mode, bool backwards = false, int passes = 1);
  void stop_playing();
  /// A still of the frame for the picture; the latest request wins. A frame that takes long comes at a lower
  /// scale first.
  void show_frame(Frames frame);
  void set_look(LookOptions look);
  LookOptions look() const { return look_; }
  /// Settings of the seat; saved, and everything is worked out anew.
  void set_settings(const Settings& settings);
  /// Looks in the folder and everything in it for missing media, by name and then by content; or, as a tree that mirrors where
  /// the media lie, for all of them. Told by media_found; nothing is changed.
  void look_for_media(const QString& folder, bool mirrored);
  /// What was found becomes the media, as an edit.
  void take_media(const RelinkReport& report);
  /// Raster, rate and timecode of the timeline; an edit. What is counted at a rate of its own keeps its time.
  void set_counted_in(int width, int height, Rate rate, bool drop_frame);
  /// Follows the shape in a secondary's window from a frame of the timeline.
  void track(const std::string& segment, const std::string& effect, Frames from);
  const std::vector<Coverage>& uncovered() const { return uncovered_; }

  // The shelf.
  /// Null until it was looked at.
  const ShelfReport* shelf() const { return shelf_report_ ? &*shelf_report_ : nullptr; }
  /// Looks what is there; told by shelf_changed.
  void look_at_shelf();
  /// Pieces that are cleaned away can be brought back until their room is needed.
  void clean_shelf(const Selection& what);
  void restore_shelf();
  void pin_on_shelf(const Selection& what, bool pinned);
  /// In gigabytes; 0: none.
  void set_shelf_budget(double gb);

  // The seat.
  /// Null until it was looked at.
  const SeatProfile* profile() const { return profile_ ? &*profile_ : nullptr; }
  const Advice* advice() const { return advice_ ? &*advice_ : nullptr; }
  const std::vector<News>& news() const { return news_; }
  /// Seats that ship and profiles that were loaded.
  const std::vector<SeatProfile>& other_seats() const { return seats_; }
  /// Index of the seat that the forecast is for; −1: this one.
  int elsewhere() const { return elsewhere_; }
  void measure_seat(bool full);
  void forecast_on(int other_seat);
  void save_seat(const QString& file);
  void load_seat(const QString& file);
  /// What the span would do without each of its effects, and the fewest to bypass so that it holds; told by
  /// span_explained.
  void explain_span(FrameRange span);
  /// What can make a span play, with price and gain; told by remedies_found.
  void look_for_remedies(FrameRange span);
  /// What light copies of a source would bring; told by copies_found.
  void look_for_copies(const std::string& source);
  /// How the timeline would play with a remedy; told by remedy_supposed. Empty: with none.
  void suppose_remedy(const std::string& id);
  /// Renders what it needs, or opens its slip, which is an edit.
  void apply_remedy(const std::string& id);
  /// What the person has said about the review of this timeline; the plan is made again at once.
  const Wishes& wishes() const { return wishes_; }
  void set_wishes(const Wishes& wishes);
  /// Puts the plan into the queue and starts a renderer, which lives on when the window closes.
  void queue_plan();
  /// The renderer's program; empty: gclk beside this one.
  QString renderer;
  /// Starts a renderer when jobs wait and none runs: what an earlier window left is done.
  void go_on_with_queue();
  /// Before the window closes: what it renders itself becomes jobs of the queue, and the renderer lives on; or else all that
  /// stops. Calls `then` when it is done, and not when going on is not possible, which is told.
  void leave_queue(bool goes_on, std::function<void()> then);
  /// The queue of this seat as it was looked at last.
  struct QueueSeen {
    bool readable = false;
    std::vector<Job> jobs;
    QueueSettings settings;
    std::vector<double> ratios;  ///< taken ÷ said of earlier renders
    bool runs = false;   ///< a renderer has the seat
    bool stays = false;  ///< it does not end with the windows
    bool other_windows = false;  ///< another program has the window open too
    std::string why;     ///< nothing is done at the moment
  };
  const QueueSeen& queue() const { return queue_; }
  /// Does something to the queue, where that is asked for, and looks at it; told by queue_seen.
  void look_at_queue(std::function<Result<void>(Journal&)> change = {});
  /// Looks what other processes have put on the shelf.
  void look_for_others();
  /// Tells the queue that somebody works here.
  void tell_queue();
  /// What a delivery in this form would take; told by delivery_changed.
  void look_at_delivery(const std::string& form, bool tried = false);
  /// Delivers the whole timeline and reads it back.
  void deliver(const QString& file, const std::string& form);
  /// Leaves a delivery of the timeline as it is now to the queue.
  void queue_delivery(const QString& file, const std::string& form);
  /// What is to be said of the delivery: what it would take, or how the latest one went.
  QString delivery_said() const { return delivery_said_; }
  /// What stands between this timeline and its delivery.
  const Gate& gate() const { return gate_is_whole() ? whole_gate_ : derived_->gate; }
  /// The timeline at a place of the gate's, small; null until it is made.
  QImage gate_picture(Frames at) const;
  /// Whether pictures were looked at for it.
  bool gate_is_whole() const { return derived_ && gate_of_ == derived_; }
  /// Looks for uncovered pixels too, in the background; told by delivery_changed.
  void look_at_gate();
  /// Puts those right that a key can, as one edit; gives back the others.
  std::vector<GateItem> put_right(std::vector<GateItem> items);
  /// Somebody's word that these may be delivered as they are; an edit.
  void accept(const std::vector<GateItem>& items, const QString& who, const QString& why);
  /// Ends everything temporary; an edit.
  void lift_all();
  void set_truth(const std::string& segment, Truth truth);
  /// Advice costs several forecasts and is worked out only while someone looks at it.
  void want_advice(bool wanted);

 signals:
  void opened();
  void several(const QString& file, const QStringList& timelines);
  void failed(const QString& message);
  void media_found(const QString& folder, bool mirrored, const gc::RelinkReport& report);
  void saved(int number);
  void not_saved(int number);  ///< after `failed` or `changed_outside`
  void changed_outside(const QString& file);
  void recoverable(const std::vector<gc::RecoveryCopy>& copies);
  void recent_changed(const QStringList& files);
  void derived_changed();   ///< forecast, plan, seals
  void timeline_changed();  ///< an edit, before its forecast is there
  void work_changed();
  void picture(const QImage& image, qint64 frame, bool live, gc::StillKind kind);
  void compared(const gc::Comparison& comparison);
  void coverage_counted();
  void shelf_changed();
  void delivery_changed();
  void queue_changed();
  void queue_seen();
  void seat_changed();
  void span_explained(gc::FrameRange span, const std::vector<gc::StageGain>& gains,
                      const std::vector<gc::StageGain>& least);
  void remedies_found(gc::FrameRange span, const std::vector<gc::Proposal>& found);
  void copies_found(const std::string& source, const std::vector<gc::Proposal>& found);
  void remedy_supposed(const std::shared_ptr<const gc::Forecast>& then);  ///< null: with none
  void play_moved();
  void play_ended();

 private:
  /// Of the queue; `runs`: one works already.
  void start_renderer(bool runs);
  /// Jobs that an edit made useless go.
  void queue_follows();
  bool present(Frames frame, ScreenImage&& picture, double at_ms) override;
  void post(std::function<void()> on_interface_thread);
  struct Still {
    View view;
    Stores stores;
    Frames frame = 0;
    LookOptions look;
  };
  void tell(const Error& error);  ///< from any thread
  /// What `make` returns; nothing, after telling why, when it throws. Whoever waits for it is answered either way.
  template <class F>
  std::invoke_result_t<F> worked_out(F make) {
    std::invoke_result_t<F> made{};
    if (const auto threw = caught([&] { made = make(); })) tell(*threw);
    return made;
  }
  void still_loop();
  void make_still(const Still& wanted);
  bool still_superseded();
  void count_coverage();
  void check_pictures();
  /// Small pictures of the gate's places that have none yet.
  void make_gate_pictures();
  void derive(bool then_measure);
  void seals_changed();
  /// Does something to the shelf, and looks at it again.
  void with_shelf(std::function<Result<void>(Shelf&, const std::vector<ProgramPtr>& open)> change);
  void timeline_is(TimelinePtr timeline, TimelinePtr saved, DerivedPtr derived, const QString& file,
                   const Hash128& origin);
  void edited();
  void set_work(Work::Kind kind, const QString& text, double share);
  std::stop_token begin_labour(Work::Kind kind, const QString& text);
  void end_labour(const std::stop_token& of);
  void make_way();
  void start_measuring(bool again);
  void look_at_profile();
  void work_out_advice();
  void start_rendering();
  void played(int opened, Playout playout, std::optional<Audit> audit, std::optional<Explanation> explanation);

  Stores stores_;
  std::optional<History> history_;
  DerivedPtr derived_;
  std::optional<Seat> seat_;
  std::optional<SeatProfile> profile_;
  std::optional<Advice> advice_;
  std::optional<ShelfReport> shelf_report_;
  std::vector<News> news_;
  std::vector<SeatProfile> seats_;
  std::shared_ptr<const ProfileBook> elsewhere_book_;
  int elsewhere_ = -1;
  bool wants_advice_ = false;
  std::optional<Playout> playout_;
  std::optional<Audit> audit_;
  std::optional<Explanation> explanation_;
  QString file_;
  Work work_;
  bool playing_ = false;
  int deriving_ = 0;  ///< states that are being worked out
  bool sealing_ = false, seal_again_ = false;  ///< the seals are being looked at; there are newer ones
  int saves_ = 0;      ///< asked for so far
  int opened_ = 0;     ///< timelines so far: what belongs to an older one is not taken for the present one's
  std::map<std::string, Hash128> written_;  ///< what this program wrote last, by file; for `files_` alone
  Hash128 origin_;     ///< of what the file held when it was read or last saved
  QTimer keep_edits_;  ///< until edits are kept for a crash

  /// A plan that the person has accepted: of which state, and what of it.
  struct Accepted {
    DerivedPtr of;
    Plan plan;
  };
  std::optional<Accepted> accepted_;
  Wishes wishes_;
  bool wishes_given_ = false;  ///< since this timeline was opened
  TimelinePtr noted_;  ///< up to which edits are in the log of edits
  QString delivery_said_;
  QueueSeen queue_;
  bool resume_render_ = false, resume_measure_ = false;

  std::shared_ptr<std::atomic<int>> supposing_ = std::make_shared<std::atomic<int>>(0);  ///< counts what was asked: only the last matters
  std::atomic<bool> quit_{false};
  std::atomic<const Timeline*> latest_{nullptr};  ///< for workers: what is not of it need not be worked out
  /// Of all labour that was begun or waits now. What is begun later has another one, so that a stop is never
  /// taken back, and never stops what was asked for after it.
  std::stop_source labour_stop_;
  std::shared_ptr<std::atomic<bool>> stop_play_ = std::make_shared<std::atomic<bool>>(false);
  std::mutex still_mutex_;
  std::condition_variable still_changed_;
  std::optional<Still> still_;
  LookOptions look_;
  std::vector<Coverage> uncovered_;
  Gate whole_gate_;     ///< with the pixels looked at
  DerivedPtr gate_of_;  ///< the state that it is of
  std::map<Frames, QImage> gate_pictures_;  ///< of that state's places
  bool picturing_ = false;
  DerivedPtr looked_at_;  ///< the state whose pictures are being looked at
  std::shared_ptr<MemoryCache> cache_;
  bool frames_kept_ = false;  ///< some were played into it, every one
  Decoders still_decoders_{6};
  std::map<Hash128, double> still_ms_;  ///< by the kind of frame: how long the last one took
  ProgramPtr preview_of_, preview_;     ///< a program and the same at a lower scale

  mutable std::mutex play_mutex_;
  PlayState play_state_;
  std::optional<QImage> pending_picture_;
  Frames pending_frame_ = 0;

  std::thread stills_;
  // What a person waits for is never behind what takes long, and saving behind nothing but saving. Last, so that
  // they end first.
  TaskQueue quick_, labour_, player_, files_;
};

}  // namespace gc
