using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Tests.Doubles;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>The simulated target database: its committed rows and progress.</summary>
public sealed class SimTargetState
{
    public Dictionary<(TableName Table, string Key), Row> Rows { get; set; } = [];

    public TargetProgress Progress { get; set; } = TargetProgress.None;

    public long Term { get; set; }

    /// <summary>The schema of tables into which rows are loaded beside those that they replace.</summary>
    public const string Beside = "beside";

    /// <summary>Rows that are not taken, by their table and key.</summary>
    public HashSet<(TableName Table, string Key)> Refused { get; } = [];

    /// <summary>Rows found or missed against expectation: each is a change that took effect twice or never.</summary>
    public long Unexpected { get; set; }

    /// <summary>A broken target: rows are committed first, the progress after it, and a crash can come between.</summary>
    public bool CommitsApart { get; init; }

    /// <summary>A broken target: neither the worker's term nor the expected position is looked at.</summary>
    public bool NotFenced { get; init; }
}

/// <summary>The target as one process reaches it.</summary>
public sealed class SimTarget(SimTargetState state, SimFaults faults, SimWorld world)
    : IProbe,
        ICatalogue,
        IRowLookup,
        ITableTarget,
        ITargetViews,
        ISchemaEditor,
        IRowReplacement
{
    public string Engine => world.Source.Treatment.CrossesEngines ? "sim of texts" : "sim";

    public IEngineTypes Types => world.Source.Treatment.CrossesEngines ? PlainTexts.Instance : PlainTypes.Instance;

    public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult("target");

    public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => Task.FromResult(false);

    public IReadOnlySet<string> TakenForms { get; } = new HashSet<string>();

    public TableName NameFor(TableName source) => source;

    public IReadOnlyList<string> StatementsFor(SchemaEdit edit) => [.. edit.Changes.Select(change => change.Words)];

    public async Task EditAsync(ITargetTransaction transaction, SchemaEdit edit, CancellationToken cancellation)
    {
        await faults.BeforeAsync("target.edit", cancellation);
        ((Transaction)transaction.Own).Edit(edit);
        foreach (var change in edit.Changes)
        {
            world.Count("carried", change.Kind.Word());
        }

        faults.After("target.edit");
    }

    public string DropStatementFor(TableName table) => $"drop {table}";

    public async Task DropAsync(ITargetTransaction transaction, IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        ArgumentNullException.ThrowIfNull(tables);
        await faults.BeforeAsync("target.drop", cancellation);
        foreach (var table in tables)
        {
            ((Transaction)transaction.Own).Empty(SimRows.First with { Name = table });
        }

        faults.After("target.drop");
    }

    public TableSchema BesideOf(string crossing, TableSchema table) =>
        table with
        {
            Name = new TableName(SimTargetState.Beside, table.Name.Name),
        };

    public async Task MakeBesideAsync(ITargetTransaction transaction, TableSchema beside, CancellationToken cancellation)
    {
        await faults.BeforeAsync("target.make beside", cancellation);
        ((Transaction)transaction.Own).Empty(beside);
    }

    public async Task<ReplacedRows> ReplaceAsync(
        ITargetTransaction transaction,
        TableSchema table,
        TableSchema beside,
        long rows,
        CancellationToken cancellation
    )
    {
        await faults.BeforeAsync("target.replace", cancellation);
        world.Count("table", "replaced in place");
        var replaced = ((Transaction)transaction.Own).Replace(table, beside, rows);
        faults.After("target.replace");
        return replaced;
    }

    public TargetStructure StructureOf(IReadOnlyList<TableTreatment> treatments) =>
        new([.. treatments.SelectMany(treatment => treatment.Tables).Select(table => table.Schema)], []);

    public IReadOnlyList<StructureStatement> StructureFor(IReadOnlyList<TableSchema> tables) => [];

    public Task<IReadOnlyList<ReadinessCheck>> CheckTargetAsync(
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        IReadOnlySet<TableName> begun,
        CancellationToken cancellation
    ) => Task.FromResult<IReadOnlyList<ReadinessCheck>>([]);

    public string StatementFor(TableSchema table, RowChange change) => "";

    public async Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation)
    {
        await faults.BeforeAsync("target.progress", cancellation);
        return state.Progress;
    }

    public async Task<IRowsView> OpenViewAsync(string crossing, CancellationToken cancellation)
    {
        await faults.BeforeAsync("target.view", cancellation);
        return new SimView(
            state.Progress.Position,
            state.Progress,
            state
                .Rows.GroupBy(pair => pair.Key.Table)
                .ToDictionary(group => group.Key, IReadOnlyList<Row> (group) => [.. group.Select(pair => pair.Value)]),
            faults
        );
    }

    public async Task<ITargetSession> OpenSessionAsync(string crossing, long term, CancellationToken cancellation)
    {
        await faults.BeforeAsync("target.session", cancellation);
        if (!state.NotFenced && term <= state.Term)
        {
            throw new FencedException($"Term {state.Term} is at work.") { Transient = true, Term = state.Term };
        }

        state.Term = term;
        faults.After("target.session");
        return new Session(this, term, state.Progress);
    }

    public Task ForgetAsync(string crossing, CancellationToken cancellation) => Task.CompletedTask;

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<TableDescription>>([]);

    public Task<long> CountAsync(TableName table, SharedRows? only, CancellationToken cancellation) => Task.FromResult(0L);

    public Task<Row?> FindAsync(TableSchema table, IReadOnlyList<string> key, CancellationToken cancellation) =>
        Task.FromResult<Row?>(null);

    public Task<IReadOnlyList<Row>> SampleRowsAsync(TableSchema table, int rows, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<Row>>([]);

    public Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessCheck>>([]);

    private SimTargetState State => state;

    private SimFaults Faults => faults;

    private SimWorld World => world;

    private sealed class Session(SimTarget target, long term, TargetProgress progress, bool beside = false) : ITargetSession
    {
        public void Learn(IReadOnlyList<TableProgress> tables) => Progress = Progress.With(new ProgressUpdate(null, tables));

        public TargetProgress Progress { get; set; } = progress;

        public void Match(IReadOnlyList<LogBranch> branches) => Progress = Progress.Match(branches);

        public Task<string?> WhyWaitingAsync(CancellationToken cancellation) => Task.FromResult<string?>(null);

        /// <summary>Half the worlds let several write side by side.</summary>
        public async Task<ITargetSession?> OpenBesideAsync(CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.beside", cancellation);
            return target.World.Seed % 2 == 0 ? null : new Session(target, term, Progress, beside: true);
        }

        public async Task BuildKeysAsync(TableSchema table, CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.keys", cancellation);
            target.Faults.After("target.keys");
        }

        public async Task BuildPrimaryKeyAsync(TableSchema table, CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.primary", cancellation);
            target.Faults.After("target.primary");
        }

        public Task BuildReferencesAsync(IReadOnlyList<TableSchema> tables, CancellationToken cancellation) => Task.CompletedTask;

        public async Task<ITargetTransaction> BeginAsync(bool checkReferences, Route route, CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.begin", cancellation);
            ThrowIfFenced(Progress);
            if (Open)
            {
                throw new InvalidOperationException("The session has a transaction open already.");
            }

            Open = true;
            return new Transaction(target, this);
        }

        /// <summary>Whether a transaction is open; there is one at a time, as on a real connection.</summary>
        public bool Open { get; set; }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;

        public void ThrowIfFenced(TargetProgress expected)
        {
            var there = target.State.Progress;
            if (
                !target.State.NotFenced
                && (
                    target.State.Term != term
                    || (!beside && (there.Position?.Offset != expected.Position?.Offset || there.Identity != expected.Identity))
                )
            )
            {
                throw new FencedException($"Term {target.State.Term} has taken over from {term}, or the position moved.")
                {
                    Transient = true,
                };
            }
        }
    }

    private sealed class Transaction(SimTarget target, Session session) : ITargetTransaction
    {
        private Dictionary<(TableName Table, string Key), Row?> written = [];
        private HashSet<(TableName Table, string From)> emptied = [];
        private readonly TargetProgress expected = session.Progress;
        private long unexpected;
        private (Dictionary<(TableName Table, string Key), Row?> Written, HashSet<(TableName Table, string From)> Emptied)? mark;

        public async Task CreateTablesAsync(IReadOnlyList<TableSchema> tables, TableMaking making, CancellationToken cancellation) =>
            await target.Faults.BeforeAsync("target.create", cancellation);

        public async Task EmptyAsync(TableSchema table, CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.empty", cancellation);
            Empty(table);
        }

        public async Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.load", cancellation);
            var reader = new ChangeReader(block.Rows);
            while (reader.TryRead(out var change))
            {
                Insert(table, change.After);
            }
        }

        public async Task MergeAsync(TableSchema table, RowBlock block, CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.merge", cancellation);
            var reader = new ChangeReader(block.Rows);
            while (reader.TryRead(out var change))
            {
                written[KeyOf(table, change.After)] = change.After;
            }
        }

        public async Task<IReadOnlyDictionary<TableName, ApplyCounts>> ApplyAsync(
            IReadOnlyList<FoldedTable> tables,
            CancellationToken cancellation
        )
        {
            await target.Faults.BeforeAsync("target.apply", cancellation);
            foreach (var folded in tables)
            {
                if (folded.EmptiedFirst)
                {
                    Empty(folded.Table);
                }

                foreach (var row in folded.Rows)
                {
                    Change(folded.Table, row.Kind, row.Before, row.After);
                }
            }

            return new Dictionary<TableName, ApplyCounts>();
        }

        public async Task<ApplyCounts> ApplyAsync(TableSchema table, RowChange change, CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.one", cancellation);
            if (change.Kind == ChangeKind.Truncate)
            {
                Empty(table);
            }
            else if (change.Kind == ChangeKind.Update && KeyOf(table, change.Before) != KeyOf(table, change.After))
            {
                // Values that the change does not carry stay as they are in the row whose key moves.
                var after = Find(table, change.Before) is { } moved ? RowMerge.Fill(change.After, moved) : change.After;
                Change(table, ChangeKind.Delete, change.Before, default);
                Change(table, ChangeKind.Insert, default, after);
            }
            else
            {
                Change(table, change.Kind, change.Before, change.After);
            }

            return default;
        }

        /// <summary>Every row that is there is one of the table as it is to be.</summary>
        public void Edit(SchemaEdit edit)
        {
            var there = target.State.Rows.Where(pair => !emptied.Any(part => Lies(pair.Key, part)) && !written.ContainsKey(pair.Key));
            var rows = there.Select(pair => (pair.Key, (Row?)pair.Value)).Concat(written.Select(pair => (pair.Key, pair.Value)));
            foreach (var (key, row) in rows.Where(one => one.Key.Table == edit.After.Name).ToList())
            {
                written[key] = row is { } known ? SimRows.As(known, edit.Before, edit.After) : null;
            }
        }

        public async Task SavepointAsync(CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.mark", cancellation);
            mark = (new(written), [.. emptied]);
        }

        public async Task RollBackToSavepointAsync(CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.back", cancellation);
            (written, emptied) = (new(mark!.Value.Written), [.. mark.Value.Emptied]);
        }

        public async Task CommitAsync(ProgressUpdate update, CancellationToken cancellation)
        {
            await target.Faults.BeforeAsync("target.commit", cancellation);
            session.ThrowIfFenced(expected);
            if (target.World.Random.NextDouble() < target.World.FaultRate)
            {
                target.World.Later(() => CommitLate(update));
                target.Faults.Throw("target.commit", "late");
            }

            Commit(update, apart: true);
            session.Progress = session.Progress.With(update);
            target.Faults.After("target.commit");
        }

        public ValueTask DisposeAsync()
        {
            session.Open = false;
            return ValueTask.CompletedTask;
        }

        /// <summary>The commit of a worker that has given up on it: it happens only if nobody has taken over.</summary>
        private void CommitLate(ProgressUpdate update)
        {
            try
            {
                session.ThrowIfFenced(expected);
                Commit(update, apart: false);
            }
            catch (FencedException)
            {
                target.World.Count("target.commit", "fenced late");
            }
        }

        private void Commit(ProgressUpdate update, bool apart)
        {
            foreach (var table in emptied)
            {
                foreach (var key in target.State.Rows.Keys.Where(key => Lies(key, table)).ToList())
                {
                    target.State.Rows.Remove(key);
                }
            }

            foreach (var (key, row) in written)
            {
                if (row is null)
                {
                    target.State.Rows.Remove(key);
                }
                else
                {
                    target.State.Rows[key] = row.Value;
                }
            }

            target.State.Unexpected += unexpected;
            if (apart && target.State.CommitsApart && target.World.Random.NextDouble() < target.World.FaultRate)
            {
                target.Faults.Throw("target.commit", "between rows and progress");
            }

            target.State.Progress = Stored(target.State.Progress.With(update));
            target.World.Committed();
        }

        /// <summary>A target keeps offsets, with the identities of their logs.</summary>
        private static TargetProgress Stored(TargetProgress progress) =>
            progress with
            {
                Position = progress.Position?.On(0),
                Tables =
                [
                    .. progress.Tables.Select(table =>
                        table with
                        {
                            Position = table.Position.On(0),
                            Part = table.Part is { } part ? part with { Since = part.Since.On(0) } : null,
                            Reached = table.Reached?.On(0),
                            AgreedUpTo = table.AgreedUpTo?.On(0),
                        }
                    ),
                ],
            };

        private void Change(TableSchema table, ChangeKind kind, Row before, Row after)
        {
            switch (kind)
            {
                case ChangeKind.Insert:
                    ThrowIfRefused(table, kind, after);
                    Insert(table, after);
                    break;
                case ChangeKind.Update:
                    ThrowIfRefused(table, kind, after);
                    unexpected += Has(table, after) ? 0 : 1;
                    written[KeyOf(table, after)] = after;
                    break;
                default:
                    // While a table is being loaded, what the log deletes may not have come yet.
                    unexpected += Has(table, before) || IsLoading(table.Name) || target.World.IsRewinding ? 0 : 1;
                    written[KeyOf(table, before)] = null;
                    break;
            }
        }

        private void ThrowIfRefused(TableSchema table, ChangeKind kind, Row row)
        {
            var (name, key) = KeyOf(table, row);
            if (target.State.Refused.Contains((name, key)))
            {
                target.World.Count("target", "refused");
                throw new RowRefusedException($"The row {name} {key} is refused.")
                {
                    Table = name,
                    Kind = kind,
                    Key = key,
                    Answer = "refused",
                };
            }
        }

        private bool IsLoading(TableName table) =>
            session.Progress.Tables.Any(progress => (progress.IntoTables ?? [progress.Table]).Contains(table) && !progress.Loaded);

        private void Insert(TableSchema table, Row row)
        {
            unexpected += Has(table, row) ? 1 : 0;
            written[KeyOf(table, row)] = row;
        }

        private bool Has(TableSchema table, Row row) => Find(table, row) is not null;

        private Row? Find(TableSchema table, Row row)
        {
            var key = KeyOf(table, row);
            return written.TryGetValue(key, out var known) ? known
                : !emptied.Any(part => Lies(key, part)) && target.State.Rows.TryGetValue(key, out var there) ? there
                : null;
        }

        private static (TableName Table, string Key) KeyOf(TableSchema table, Row row) =>
            (table.Name, RowKey.Display(row, table.KeyOrdinals));

        /// <summary>Whether a row belongs to what was emptied: a table, or what of it came from one source's.</summary>
        private static bool Lies((TableName Table, string Key) row, (TableName Table, string From) part) =>
            row.Table == part.Table && row.Key.StartsWith(part.From, StringComparison.Ordinal);

        /// <summary>Makes the rows of a table those beside it.</summary>
        public ReplacedRows Replace(TableSchema table, TableSchema beside, long count)
        {
            var there = target
                .State.Rows.Where(pair => pair.Key.Table == beside.Name && !emptied.Any(part => Lies(pair.Key, part)))
                .ToDictionary(pair => pair.Key.Key, pair => pair.Value);
            if (there.Count != count)
            {
                throw new PortException($"{there.Count} rows are beside {table.Name}, not {count}.") { Transient = true };
            }

            var old = target.State.Rows.Keys.Where(key => key.Table == table.Name).Select(key => key.Key).ToList();
            old.Where(key => !there.ContainsKey(key)).ToList().ForEach(key => written[(table.Name, key)] = null);
            foreach (var (key, row) in there)
            {
                written[(table.Name, key)] = row;
            }

            Empty(beside);
            return new ReplacedRows(there.Keys.Except(old).Count(), there.Keys.Intersect(old).Count(), old.Except(there.Keys).Count());
        }

        public void Empty(TableSchema table)
        {
            var part = (table.Name, table.Shared is { } shared ? $"{shared.Value}, " : "");
            emptied.Add(part);
            foreach (var key in written.Keys.Where(key => Lies(key, part)).ToList())
            {
                written.Remove(key);
            }
        }
    }
}
