using Vestige.Connectors.StandIn.Native;
using Vestige.Connectors.StandIn.Sources;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>A stand-in written as a target.</summary>
public sealed class StandInTarget(string name, Func<StandInDatabase> open, TimeProvider clock)
    : StandInEndpoint(name, open, clock),
        ITableTarget,
        ITargetViews,
        ISchemaEditor,
        IRowReplacement
{
    /// <summary>Of one that is open.</summary>
    public StandInTarget(StandInDatabase database, TimeProvider clock)
        : this((database ?? throw new ArgumentNullException(nameof(database))).Name, () => database, clock) { }

    public IReadOnlySet<string> TakenForms { get; } = new HashSet<string>();

    public TableName NameFor(TableName source) => new(Name, source.Name);

    public IReadOnlyList<string> StatementsFor(SchemaEdit edit) => TableEdit.StatementsFor(edit);

    public Task EditAsync(ITargetTransaction transaction, SchemaEdit edit, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        ((StandInTargetTransaction)transaction.Own).Change(TableEdit.StatementsFor(edit));
        return Task.CompletedTask;
    }

    public string DropStatementFor(TableName table) => $"DROP TABLE {Quote.Name(table.Name)}";

    public Task DropAsync(ITargetTransaction transaction, IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        ArgumentNullException.ThrowIfNull(tables);
        ((StandInTargetTransaction)transaction.Own).Change(
            [.. tables.Select(table => $"DROP TABLE IF EXISTS {Quote.Name(table.Name)}")]
        );
        return Task.CompletedTask;
    }

    public TableSchema BesideOf(string crossing, TableSchema table) => RowsBeside.Of(crossing, table);

    public Task MakeBesideAsync(ITargetTransaction transaction, TableSchema beside, CancellationToken cancellation)
    {
        ((StandInTargetTransaction)transaction.Own).Beside.Make(beside);
        return Task.CompletedTask;
    }

    public Task<ReplacedRows> ReplaceAsync(
        ITargetTransaction transaction,
        TableSchema table,
        TableSchema beside,
        long rows,
        CancellationToken cancellation
    ) => Task.FromResult(((StandInTargetTransaction)transaction.Own).Beside.Replace(table, beside, rows));

    public TargetStructure StructureOf(IReadOnlyList<TableTreatment> treatments)
    {
        ArgumentNullException.ThrowIfNull(treatments);
        var notMade = new List<string>();
        var bySource = treatments.ToDictionary(treatment => treatment.Source.Name);
        var tables = treatments
            .SelectMany(treatment => treatment.WithChildren)
            .SelectMany(treatment =>
                treatment.OwnTables.Select(table => table.Schema with { ForeignKeys = References(treatment, bySource, notMade) })
            )
            .ToList();
        notMade.AddRange(
            treatments
                .Where(treatment => treatment.CrossesEngines)
                .SelectMany(treatment =>
                    treatment
                        .Source.Objects.Where(part => part.Stage is SchemaStage.Index or SchemaStage.Within)
                        .Select(part => $"{part.Name} of {treatment.Source.Name}: it is a statement of another engine")
                )
        );
        return new TargetStructure(tables, [.. notMade.Distinct()]);
    }

    private static List<ForeignKey> References(
        TableTreatment treatment,
        Dictionary<TableName, TableTreatment> bySource,
        List<string> notMade
    )
    {
        var kept = new List<ForeignKey>();
        foreach (var key in treatment.Source.ForeignKeys.Where(key => bySource.ContainsKey(key.References)))
        {
            if (KeptReference.Of(treatment, bySource[key.References], key.Columns, key.ReferencedColumns, out var reason) is { } found)
            {
                kept.Add(new ForeignKey(found.Columns, found.References, found.ReferencedColumns));
            }
            else
            {
                notMade.Add($"the reference of {treatment.Source.Name} ({string.Join(", ", key.Columns)}) to {key.References}: {reason}");
            }
        }

        return kept;
    }

    public IReadOnlyList<StructureStatement> StructureFor(IReadOnlyList<TableSchema> tables)
    {
        ArgumentNullException.ThrowIfNull(tables);
        var names = tables.Select(table => table.Name.Name).ToHashSet();
        return [.. tables.Select(table => new StructureStatement(table.Statement ?? TableStatements.Create(table, names), table.Name))];
    }

    public async Task<IReadOnlyList<ReadinessCheck>> CheckTargetAsync(
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        IReadOnlySet<TableName> begun,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(tables);
        ArgumentNullException.ThrowIfNull(begun);
        var foreign = tables.Where(table => table.Name.Schema != Name).ToList();
        if (foreign.Count > 0)
        {
            return
            [
                .. foreign.Select(table => new ReadinessCheck(
                    $"target table {table.Name}",
                    false,
                    $"the stand-in has the one schema {Name}",
                    $"a name in {Name}",
                    $"Name the table {Name}.{table.Name.Name}.",
                    TimeSpan.Zero
                )),
            ];
        }

        if (NamesAlike(tables) is { Count: > 0 } alike)
        {
            return alike;
        }

        var there = (await ReadTablesAsync(cancellation)).ToDictionary(table => table.Schema.Name.Name, StringComparer.OrdinalIgnoreCase);
        var owners = await ReadAsync(Owners, cancellation);
        var checks = new List<ReadinessCheck>();
        foreach (var table in tables)
        {
            if (!begun.Contains(table.Name) && there.TryGetValue(table.Name.Name, out var found))
            {
                checks.Add(Check(table, found, existing.GetValueOrDefault(table.Name), owners.GetValueOrDefault(table.Name.Name)));
            }
        }

        return checks;
    }

    /// <summary>Names that differ in case alone are one name here.</summary>
    private static List<ReadinessCheck> NamesAlike(IReadOnlyList<TableSchema> tables)
    {
        static IEnumerable<string> Alike(IEnumerable<string> names) =>
            names
                .GroupBy(name => name, StringComparer.OrdinalIgnoreCase)
                .Where(group => group.Distinct().Count() > 1)
                .Select(group => string.Join(" and ", group.Distinct()));
        return
        [
            .. Alike(tables.Select(table => table.Name.Name))
                .Select(names => new ReadinessCheck(
                    "target tables",
                    false,
                    $"{names} would be one table: the stand-in does not tell names apart by case",
                    "names that differ in more than case",
                    "Give one of them another name.",
                    TimeSpan.Zero
                )),
            .. tables.SelectMany(table =>
                Alike(table.Columns.Select(column => column.Name))
                    .Select(names => new ReadinessCheck(
                        $"target table {table.Name}",
                        false,
                        $"its columns {names} would be one: the stand-in does not tell names apart by case",
                        "names that differ in more than case",
                        "Rename one of them.",
                        TimeSpan.Zero
                    ))
            ),
        ];
    }

    public string StatementFor(TableSchema table, RowChange change)
    {
        ArgumentNullException.ThrowIfNull(table);
        var statements = new TableStatements(table);
        return change.Kind switch
        {
            ChangeKind.Insert => statements.Insert,
            ChangeKind.Delete => statements.Delete,
            ChangeKind.Truncate => statements.Empty,
            _ => statements.UpdateOf([.. statements.Others.Where(i => change.After.KindAt(i) != ValueKind.Absent)]),
        };
    }

    public Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation) =>
        ReadAsync(reader => ProgressStore.Read(reader, crossing).Progress, cancellation);

    public async Task<IRowsView> OpenViewAsync(string crossing, CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        return StandInView.OfTarget(Database, crossing);
    }

    public async Task<ITargetSession> OpenSessionAsync(string crossing, long term, CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        using var transaction = await Database.BeginAsync(cancellation: cancellation);
        var (last, progress) = ProgressStore.Read(Database.Handle, crossing);
        if (last >= term)
        {
            throw new FencedException($"A worker with term {last} is at work on {crossing} in {Name}; this one is of term {term}.")
            {
                Transient = true,
                Term = last,
            };
        }

        transaction.Run(
            "INSERT INTO vestige_progress (crossing, epoch) VALUES (?, ?) ON CONFLICT (crossing) DO UPDATE SET epoch = excluded.epoch",
            crossing,
            term
        );
        transaction.Commit();
        return new StandInTargetSession(Database, crossing, term, progress);
    }

    public async Task ForgetAsync(string crossing, CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        using var transaction = await Database.BeginAsync(cancellation: cancellation);
        transaction.Run("DELETE FROM vestige_progress WHERE crossing = ?", crossing);
        transaction.Run("DELETE FROM vestige_progress_table WHERE crossing = ?", crossing);
        new RowsBeside(transaction).Drop(crossing);
        transaction.Commit();
    }

    private static Dictionary<string, string> Owners(SQLitePCL.sqlite3 reader)
    {
        using var select = new Statement(
            reader,
            "SELECT name, crossing, into_tables FROM vestige_progress_table ORDER BY crossing DESC",
            "owners"
        );
        var owners = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        while (select.Step())
        {
            var names = select.IsNull(2) ? [select.Text(0)] : TableProgress.NamesIn(select.Text(2)).Select(name => name.Name);
            foreach (var name in names)
            {
                owners[name] = select.Text(1);
            }
        }

        return owners;
    }

    private static ReadinessCheck Check(TableSchema table, TableDescription found, ExistingRows existing, string? owner)
    {
        var step = $"target table {table.Name}";
        if (owner is not null)
        {
            return new ReadinessCheck(
                step,
                false,
                $"the crossing {owner} writes to it",
                "a table of its own",
                "Leave the table out, or remove that crossing.",
                TimeSpan.Zero
            );
        }

        var rows = found.EstimatedRows;
        if (existing == ExistingRows.Replace)
        {
            return new ReadinessCheck(
                step,
                true,
                $"it is dropped with its {Core.Text.Figures.Of(rows, "row")} and created again",
                "leave to drop it",
                null,
                TimeSpan.Zero
            )
            {
                Loses = $"{table.Name} with {Core.Text.Figures.Of(rows, "row")}",
            };
        }

        if (table.DifferenceTo(found.Schema) is { } difference)
        {
            return new ReadinessCheck(
                step,
                false,
                $"its columns differ: {difference}",
                "the same columns in the same order",
                "Drop or alter the target's table, or leave it out.",
                TimeSpan.Zero
            );
        }

        if (existing == ExistingRows.Merge)
        {
            return new ReadinessCheck(
                step,
                true,
                $"its {Core.Text.Figures.Of(rows, "row")} stay; those whose key the source has too are overwritten",
                "rows of other keys, or leave to overwrite them",
                null,
                TimeSpan.Zero
            )
            {
                Loses =
                    rows == 0
                        ? null
                        : $"what differs in those of the {Core.Text.Figures.Of(rows, "row")} of {table.Name} whose key the source has too",
            };
        }

        if (existing == ExistingRows.Keep)
        {
            return new ReadinessCheck(
                step,
                true,
                $"its {Core.Text.Figures.Of(rows, "row")} stay, and changes are applied to them",
                "rows that agree with the source's",
                null,
                TimeSpan.Zero
            );
        }

        return rows == 0 ? new ReadinessCheck(step, true, "it is there and empty", "no rows", null, TimeSpan.Zero)
            : existing == ExistingRows.Empty
                ? new ReadinessCheck(
                    step,
                    true,
                    $"its {Core.Text.Figures.Of(rows, "row")} will be deleted",
                    "no rows, or leave to delete them",
                    null,
                    TimeSpan.Zero
                )
                {
                    Loses = $"{Core.Text.Figures.Of(rows, "row")} of {table.Name}",
                }
            : new ReadinessCheck(
                step,
                false,
                $"it already has {Core.Text.Figures.Of(rows, "row")}",
                "no rows, or leave to delete them",
                "Empty the table, or choose that existing rows are deleted first.",
                TimeSpan.Zero
            );
    }
}
