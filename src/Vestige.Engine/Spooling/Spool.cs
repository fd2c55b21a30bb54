using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

// What holds at every moment, a crash included:
//
//  1. Readers see what is durable, and nothing else. What was appended shows when SyncAsync has returned, not before.
//  2. The source is told only of what is durable. So what a crash takes is sent again.
//  3. A record of data holds whole transactions or a part of one. At the end of a file that a crash left, everything after the last
//     record that ends a transaction is cut off: of that nothing was ever seen, by 1, or told, by 2.
//  4. Offsets within a branch rise from record to record and from file to file. A file is of one branch, and begins between two
//     transactions.
//  5. A branch is ended by a join that was written down before; nothing beyond its end is taken, and the next begins in a file of its own.
//  6. A file is dropped when every crossing stands at its end or beyond, in order from the oldest. So what is held is one stretch of log.
//  7. A file that is written on has no filter of its whole: it would hide what comes.
//  8. Which tables are read, and since when all of their changes are held, stands in the same files, in order with the changes.
//
//  Case 1. Appended, crash before the sync: cut off, and sent again (3, 2).
//  Case 2. Synced, crash before the source is told: sent again, and passed over, since it lies at Last or before.
//  Case 3. Crash between the filter of a full file and the first sync of the next one: there is no next one, the full one is written on,
//          and its filter goes (7).
//  Case 4. Crash after a join was written down, before the next branch began: the join stands, and the branch begins at the next opening.
//  Case 5. A write fails, as on a full disk: what is in memory is no longer known to be what is on disk, so all files are read again.
//          Readers that are open go on, by 1.

/// <summary>
/// The durable buffer of one source connection: committed transactions in commit order, from <see cref="Begin"/> to
/// <see cref="Last"/>, over one or several branches of its log. A file is of one branch, so that its records need offsets only. What <see
/// cref="SyncAsync"/> has returned is durable; only then may the source be told. A data record holds whole transactions or a part of one,
/// never both, so that an unfinished tail can be cut off without touching anything that was acknowledged; a file ends only at a
/// transaction's end. One writer; readers and questions from any thread.
/// </summary>
public sealed class Spool : IAsyncDisposable
{
    private readonly ISpoolFiles files;
    private readonly ISpoolCipher cipher;
    private readonly SpoolOptions options;
    private readonly TimeProvider clock;
    private readonly SpooledSchemas forms = new();
    private readonly SpoolLocator locator;
    private readonly SpooledTables tables = new();
    private Dictionary<string, string> notes = [];
    private readonly SpoolFileList list;
    private readonly SyncTimes syncs = new();
    private readonly SpoolWriter writer;

    private Spool(ISpoolFiles files, ISpoolCipher cipher, SpoolOptions options, TimeProvider clock)
    {
        this.clock = clock;
        list = new SpoolFileList(options);
        this.files = files;
        this.cipher = cipher;
        this.options = options;
        writer = new SpoolWriter(cipher, options, forms.Of);
        locator = new SpoolLocator(this);
    }

    /// <summary>Beats whenever something became durable.</summary>
    public AsyncSignal Grown { get; } = new();

    /// <summary>Beats whenever room was made.</summary>
    public AsyncSignal Trimmed { get; } = new();

    /// <summary>
    /// The branches of the log, in order, the last of them the one that is read; empty before it was started. Replaced as a whole.
    /// </summary>
    public IReadOnlyList<LogBranch> Branches { get; private set; } = [];

    /// <summary>The log that is read; null before it was started.</summary>
    public LogIdentity? Identity => Branches.Count > 0 ? Branches[^1].Identity : null;

    /// <summary>The number of the branch that is read; 0 before it was started.</summary>
    public int Branch => Math.Max(0, Branches.Count - 1);

    /// <summary>The join at which the branch that is read is to end; null while there is none.</summary>
    public JoinPoint? Join { get; private set; }

    /// <summary>
    /// Where the log can be continued after <see cref="Last"/>, in the source's words; null where the position says that. Asked by the
    /// writer only.
    /// </summary>
    public string? Token => writer.Token;

    /// <summary>Everything after this position is held.</summary>
    public LogPosition Begin => list.Begin;

    /// <summary>
    /// The tables whose changes are read from the log. Kept with the spool, so that after a restart nothing is passed over
    /// before the crossings have said what they need.
    /// </summary>
    public IReadOnlySet<TableName> Tables => tables.Names;

    /// <summary>A table that is read, and since when all of it is held; null when it is not read.</summary>
    public SpooledTable? Retained(TableName table) =>
        tables.Find(table) is { WholeAfter: { } after } held && after < Begin ? held with { WholeAfter = Begin } : tables.Find(table);

    /// <summary>The last durable whole transaction.</summary>
    public LogPosition Last { get; private set; }

    /// <summary>Transactions taken since the spool began, durable ones only.</summary>
    public long Transactions { get; private set; }

    /// <summary>Changes taken since the spool began, durable ones only.</summary>
    public long Changes { get; private set; }

    public SpoolOptions Options => options;

    public long Bytes => list.Bytes;

    /// <summary>
    /// Bytes that its files have ever held since it was opened, those that were dropped included: never less than before.
    /// </summary>
    public long Written => list.Written;

    /// <summary>Bytes of the files that a crossing still needs; null for one that nothing is kept for.</summary>
    public long? NeededBy(string crossing) => list.NeededBy(crossing);

    /// <summary>False before the start and while files are read again; a search that finds nothing then proves nothing.</summary>
    public bool Readable => !list.IsEmpty;

    /// <summary>
    /// Whether it is at its budget. A file that is alone is written on, however large: only then the next is begun, and it can be dropped.
    /// </summary>
    public bool Full => Bytes >= options.BudgetBytes && list.Numbers.Count > 1;

    /// <summary>Opens a spool, cutting off what a crash left unfinished.</summary>
    public static async Task<Spool> OpenAsync(
        ISpoolFiles files,
        ISpoolCipher cipher,
        SpoolOptions options,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        var spool = new Spool(files, cipher, options, clock);
        await spool.RecoverAsync(cancellation);
        return spool;
    }

    /// <summary>
    /// Reads the files again, after a start or after a write failed, and cuts off an unfinished tail. Open readers go on:
    /// they only ever saw whole, durable transactions.
    /// </summary>
    public async Task RecoverAsync(CancellationToken cancellation)
    {
        await CloseFilesAsync();
        var found = await RecoveredSpool.ReadAsync(files, cipher, cancellation);
        forms.Replace(found.Relations);
        notes = found.Notes;
        tables.Replace(found.Tables);
        Join = found.Join;
        list.Replace(found.Files);
        if (found.Files.Count > 0)
        {
            await ResumeAsync(found.Files, cancellation);
            Grown.Beat();
        }
    }

    /// <summary>Begins an empty spool: it will hold everything after the position. Durable when it returns.</summary>
    public async Task StartAsync(LogIdentity identity, LogPosition after, CancellationToken cancellation, string? token = null)
    {
        ArgumentNullException.ThrowIfNull(identity);
        if (Identity is not null)
        {
            throw new InvalidOperationException("The spool is already of a log.");
        }

        IReadOnlyList<LogBranch> first = [new LogBranch(identity, after.Offset) { BeginToken = token }];
        await AddFileAsync(1, new SpoolHeader(identity.Server, identity.Timeline, after.Offset, 0, 0, first, token), cancellation);
        await list.Newest.File.SyncAsync(cancellation);
        Branches = first;
        list.Begin = Last = new LogPosition(after.Offset);
        writer.Resume(Last, token, writer.Sequence, 0, 0);
        Grown.Beat();
    }

    /// <summary>
    /// Writes down that the branch that is read ends at a join, beyond which nothing of it will be taken. Throws
    /// <see cref="RequestRefusedException"/> where the join may not be taken. Between two transactions only. Durable when it returns.
    /// </summary>
    public async Task SealAsync(JoinPoint join, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(join);
        var taken =
            Branches.Count > 1
                ? new JoinPoint(
                    Branches[^2].Identity,
                    Branches[^2].End!.Value,
                    Branches[^1].Identity,
                    Branches[^1].Begin,
                    Branches[^1].OpenedBy!
                )
                {
                    BeginToken = Branches[^1].BeginToken,
                }
                : null;
        if (join == Join || join == taken)
        {
            return;
        }

        if ((Join is null ? JoinRule.Refusal(join, Branches, Last) : "another one is to be taken first") is { } why)
        {
            throw new RequestRefusedException($"The join of {join.Old} and {join.New} is not taken: {why}.")
            {
                Remedy = "Load the crossings of this source again.",
            };
        }

        await writer.AddJoinAsync(list.Newest.File, join, cancellation);
        await list.Newest.File.SyncAsync(cancellation);
        Join = join;
    }

    /// <summary>Begins the next branch, once the one that is read has come to its end. Durable when it returns.</summary>
    public async Task BeginBranchAsync(CancellationToken cancellation)
    {
        if (Join is not { } join || Last.Offset != join.End)
        {
            throw new InvalidOperationException("The branch has not reached its end.");
        }

        IReadOnlyList<LogBranch> next =
        [
            .. Branches.SkipLast(1),
            Branches[^1] with
            {
                End = join.End,
            },
            new LogBranch(join.New, join.Begin, OpenedBy: join.Evidence) { BeginToken = join.BeginToken },
        ];

        // What the reader of the old log noted means nothing in the new one.
        notes = [];
        await AddFileAsync(
            list.Newest.Number + 1,
            new SpoolHeader(join.New.Server, join.New.Timeline, join.Begin, Transactions, Changes, next, join.BeginToken),
            cancellation
        );
        await list.Newest.File.SyncAsync(cancellation);
        (Branches, Join, Last) = (next, null, new LogPosition(next.Count - 1, join.Begin));
        writer.Resume(Last, join.BeginToken, writer.Sequence, Transactions, Changes);
        Grown.Beat();
    }

    /// <summary>
    /// Whether everything after a position is held. The end of a branch and the beginning of the next are one state; what lies before the
    /// beginning of a branch is no place of it.
    /// </summary>
    public bool Contains(LogPosition position) =>
        (position >= Begin && (position.Branch >= Branches.Count || position.Offset >= Branches[position.Branch].Begin))
        || (NextOf(position) is { } next && Contains(next));

    /// <summary>The bytes of log between two positions, over the branches between them; as the source has it on each.</summary>
    public long Distance(ILogSource source, LogPosition from, LogPosition to)
    {
        ArgumentNullException.ThrowIfNull(source);
        var bytes = 0L;
        from = from.Branch < 0 ? Begin : from;
        for (
            ;
            from.Branch < to.Branch && from.Branch < Branches.Count - 1;
            from = new LogPosition(from.Branch + 1, Branches[from.Branch + 1].Begin)
        )
        {
            bytes += source.Distance(from, from.At(Branches[from.Branch].End ?? from.Offset));
        }

        return bytes + source.Distance(from, to);
    }

    /// <summary>Whether the last fragment that was added leaves a transaction open. Asked by the writer only.</summary>
    public bool Inside => writer.Inside;

    /// <summary>The beginning of the next branch, where a position is the end of one; null for any other.</summary>
    public LogPosition? NextOf(LogPosition position) =>
        position.Branch >= 0 && position.Branch + 1 < Branches.Count && Branches[position.Branch].End == position.Offset
            ? new LogPosition(position.Branch + 1, Branches[position.Branch + 1].Begin)
            : null;

    /// <summary>Drops everything, for a source whose log has become another.</summary>
    public async Task ClearAsync(CancellationToken cancellation)
    {
        foreach (var entry in list.Replace([]))
        {
            await entry.File.DisposeAsync();
            await files.DeleteAsync(entry.Number, cancellation);
        }

        (Branches, Join) = ([], null);
        list.Begin = Last = LogPosition.Zero;
        forms.Replace([]);
        tables.Replace([]);
        notes = [];
        Transactions = Changes = 0;
        writer.Resume(LogPosition.Zero, null, 0, 0, 0);
    }

    /// <summary>Writes down which tables are read from here on. Durable when it returns.</summary>
    public async Task CarryAsync(IReadOnlySet<TableName> chosen, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(chosen);
        if (!chosen.SetEquals(Tables))
        {
            await KeepTablesAsync(tables.With(chosen), cancellation);
        }
    }

    /// <summary>
    /// Writes down that all changes of tables after a position are held, where that was not known. Between two transactions
    /// only. Durable when it returns.
    /// </summary>
    public async Task RetainWholeAsync(IReadOnlySet<TableName> whole, LogPosition after, CancellationToken cancellation)
    {
        if (tables.All.Any(table => table.WholeAfter is null && whole.Contains(table.Name)))
        {
            await KeepTablesAsync(tables.With(whole, after), cancellation);
        }
    }

    /// <summary>What the log's reader noted last, durable or about to be. Asked by the writer only.</summary>
    public IReadOnlyDictionary<string, string> Notes => notes;

    /// <summary>Every form under which rows were written, by number.</summary>
    public IReadOnlyDictionary<int, TableSchema> Relations => forms.All;

    /// <summary>The form of a table under which rows were written.</summary>
    public TableSchema Relation(int number) => forms.Of(number);

    /// <summary>Adds what was read from the log. Not durable until <see cref="SyncAsync"/>.</summary>
    public async Task AppendAsync(LogRead read, DateTimeOffset capturedAt, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(read);
        foreach (var (number, table) in read.Relations)
        {
            if (forms.TryAdd(number, table))
            {
                await writer.AddRelationAsync(list.Newest.File, number, table, cancellation);
            }
        }

        await writer.AppendAsync(list.Newest.File, read.Fragments, capturedAt, cancellation);
        foreach (var (name, text) in read.Notes)
        {
            await writer.AddNoteAsync(list.Newest.File, name, text, cancellation);
            notes[name] = text;
        }
    }

    /// <summary>
    /// Makes everything appended durable and shows it to readers. Returns <see cref="Last"/>. In the middle of a large
    /// transaction nothing happens: it becomes durable, and is seen, as a whole.
    /// </summary>
    public async Task<LogPosition> SyncAsync(CancellationToken cancellation)
    {
        if (writer.Inside || (writer.Written == Last && !writer.HasNote))
        {
            return Last;
        }

        await list.Newest.File.SyncAsync(cancellation);
        writer.Synced();
        if (writer.Written == Last)
        {
            return Last;
        }

        list.Show(writer.Sequence);
        syncs.Add(writer.Written, clock.GetUtcNow());
        list.Newest.Last = writer.Written;
        Last = writer.Written;
        Transactions = writer.Transactions;
        Changes = writer.Changes;
        if (list.Newest.File.Bytes >= options.FileBytes)
        {
            await list.Newest.File.KeepFilterAsync(writer.FilterOfFile(), cancellation);
            await list.Newest.File.SyncAsync(cancellation);
            await AddFileAsync(
                list.Newest.Number + 1,
                new SpoolHeader(Identity!.Server, Identity.Timeline, Last.Offset, Transactions, Changes, Branches, writer.Token, Join),
                cancellation
            );
            await list.Newest.File.SyncAsync(cancellation);
        }

        Grown.Beat();
        return Last;
    }

    /// <summary>When a transaction became durable; null when that is no longer, or not, remembered.</summary>
    public DateTimeOffset? SyncedAt(LogPosition position) => syncs.Of(position);

    /// <summary>Reads forward after a position. Throws <see cref="PlaceLostException"/> when it is no longer held.</summary>
    /// <param name="position">Where to begin.</param>
    /// <param name="withinBranch">Whether the reader stops at the end of the branch of the position.</param>
    public SpoolReader ReadAfter(LogPosition position, bool withinBranch = false)
    {
        if (Identity is null || !Contains(position))
        {
            throw Lost(position);
        }

        return new SpoolReader(this, cipher, position, withinBranch);
    }

    /// <summary>Keeps everything after a position for a crossing; null keeps everything until its position is known.</summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="position">The position.</param>
    /// <param name="wish">After where it is wanted besides, as long as there is room; null where it is not.</param>
    public void Retain(string crossing, LogPosition? position, LogPosition? wish = null) => list.Retain(crossing, position, wish);

    /// <summary>The crossing no longer needs anything kept.</summary>
    public void Release(string crossing) => list.Release(crossing);

    /// <summary>Deletes the files that no crossing needs and that lie beyond the kept span.</summary>
    public async Task TrimAsync(CancellationToken cancellation)
    {
        while (list.TakeOldest(Last) is { } oldest)
        {
            await oldest.File.DisposeAsync();
            await files.DeleteAsync(oldest.Number, cancellation);
            Trimmed.Beat();
        }
    }

    /// <summary>What the spool knows of a position it holds; null when it does not hold it.</summary>
    public Task<SpooledPosition?> LocateAsync(LogPosition position, CancellationToken cancellation) =>
        locator.LocateAsync(position, cancellation);

    public async ValueTask DisposeAsync() => await CloseFilesAsync();

    /// <summary>The file that holds what follows the position: the first whose last transaction is after it, else the newest.</summary>
    internal SpoolFileEntry? FileAfter(LogPosition position) => list.After(position);

    /// <summary>The numbers of its files, in log order.</summary>
    internal IReadOnlyList<long> FileNumbers => list.Numbers;

    /// <summary>
    /// The file of that number, its branch, the number of the one after it once it is closed, and up to which record it may be read.
    /// </summary>
    internal (ISpoolFile File, int Branch, long? Successor, long Visible) FileOf(long number) => list.Of(number);

    private async Task ResumeAsync(List<SpoolFileEntry> found, CancellationToken cancellation)
    {
        var newest = found[^1];
        var complete = await newest.File.LastAsync(complete: true, cancellation);
        var last = await newest.File.LastAsync(complete: false, cancellation);
        Branches = newest.Header.AllBranches;
        list.Begin = found[0].Header.Start;
        Last = newest.Last;
        Transactions = complete?.Transactions ?? newest.Header.Transactions;
        Changes = complete?.Changes ?? newest.Header.Changes;
        list.Show(last?.Sequence ?? 0);
        writer.Resume(Last, newest.Header.Token, last?.Sequence ?? 0, Transactions, Changes);
        await writer.NoteKeysAsync(newest.File, cancellation);
        if (!(await newest.File.ReadFilterAsync(cancellation)).IsEmpty)
        {
            // The next file could not be begun, and this one is written on: its filter would hide what comes.
            await newest.File.KeepFilterAsync(default, cancellation);
            await newest.File.SyncAsync(cancellation);
        }

        locator.Forget();
    }

    private async Task AddFileAsync(long number, SpoolHeader header, CancellationToken cancellation)
    {
        var file = await files.OpenAsync(number, cancellation);
        await writer.BeginFileAsync(file, header, forms.All, tables.All, notes, cancellation);
        list.Add(new SpoolFileEntry(number, file, header));
    }

    private async Task KeepTablesAsync(IReadOnlyList<SpooledTable> kept, CancellationToken cancellation)
    {
        await writer.AddTablesAsync(list.Newest.File, kept, cancellation);
        await list.Newest.File.SyncAsync(cancellation);
        tables.Replace(kept);
    }

    private PlaceLostException Lost(LogPosition position) =>
        new(
            Identity is null
                ? "The spool holds nothing yet."
                : $"The spool begins at position {Begin} and no longer holds what follows {position}."
        )
        {
            Remedy = "Load the crossing again.",
        };

    private async Task CloseFilesAsync()
    {
        foreach (var entry in list.Replace([]))
        {
            await entry.File.DisposeAsync();
        }
    }
}
