using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Types;

namespace Vestige.Core.Treatments;

/// <summary>
/// What happens to the rows of one form of one table: which go into which target table, and what they are there. Made by
/// <see cref="TreatmentBuilder"/>. Not safe for several threads at once.
/// </summary>
public sealed class TableTreatment
{
    private readonly Expression[] keeps;
    private readonly TreatedColumn[] columns;
    private readonly RowMaker maker;
    private readonly int[] conditionColumns;
    private readonly bool asksRowBefore;

    internal TableTreatment(
        TableSchema source,
        IReadOnlyList<TreatedTable> tables,
        IReadOnlyList<TreatedColumn> columns,
        IReadOnlyList<Expression> keeps,
        IReadOnlyList<RepeatedRows> children,
        ApplyMode mode,
        IRowEncoding encoding
    )
    {
        Source = source;
        OwnTables = tables;
        Children = children;
        Tables = [.. tables, .. children.SelectMany(child => child.Treatment.Tables)];
        Mode = mode;
        this.columns = [.. columns];
        maker = new RowMaker(this.columns, encoding);
        this.keeps = [.. keeps];
        conditionColumns =
        [
            .. keeps
                .Concat(tables.Select(table => table.When).OfType<Expression>())
                .SelectMany(condition => condition.Columns)
                .Distinct()
                .Order(),
        ];
        asksRowBefore = conditionColumns.Any(ordinal => source.Columns[ordinal].KeyOrdinal == 0) || children.Count > 0;
        PassesAll =
            Tables.Count == 1
            && keeps.Count == 0
            && mode is not (ApplyMode.KeepDeleted or ApplyMode.KeepVersions)
            && Columns.All(column => column.IsPassed);
        IsIdentity =
            PassesAll
            && columns.Count == source.Columns.Count
            && columns.Select(column => column.Source).SequenceEqual(Enumerable.Range(0, columns.Count));
    }

    /// <summary>The source's form.</summary>
    public TableSchema Source { get; }

    /// <summary>The target tables that its rows go into, in the order in which their conditions are asked.</summary>
    public IReadOnlyList<TreatedTable> OwnTables { get; }

    /// <summary>All target tables: its own, and after them those of its child rows.</summary>
    public IReadOnlyList<TreatedTable> Tables { get; }

    /// <summary>What becomes of the elements of columns that repeat.</summary>
    public IReadOnlyList<RepeatedRows> Children { get; }

    /// <summary>Whether its source is not a table but the child rows of one.</summary>
    public bool IsOfChildren { get; init; }

    /// <summary>Whether its target is of another engine than its source.</summary>
    public bool CrossesEngines { get; init; }

    /// <summary>
    /// Itself, and the treatments of its child rows: each with the tables that are its own, together all of them in order.
    /// </summary>
    public IEnumerable<TableTreatment> WithChildren => [this, .. Children.Select(child => child.Treatment)];

    /// <summary>Columns on which another crossing of the source puts a mask, by name: what one must not show, none shows.</summary>
    public IReadOnlySet<string> HiddenByOthers { get; set; } = new HashSet<string>();

    /// <summary>The source's columns on which this treatment itself puts a mask.</summary>
    public IReadOnlySet<int> Masked =>
        columns
            .Where(column => column.Masked && column.Of >= 0)
            .Select(column => column.Of)
            .Concat(Children.Where(child => child.Treatment.Columns.Any(column => column.Masked)).Select(child => child.From))
            .ToHashSet();

    /// <summary>The source's columns whose values are shown by type and length only.</summary>
    public IReadOnlySet<int> Hidden =>
        HiddenByOthers.Count == 0
            ? Masked
            : Enumerable
                .Range(0, Source.Columns.Count)
                .Where(i => HiddenByOthers.Contains(Source.Columns[i].Name))
                .Union(Masked)
                .ToHashSet();

    /// <summary>The columns of each of its own target tables, in their order.</summary>
    public IReadOnlyList<TreatedColumn> Columns => columns;

    /// <summary>
    /// The columns, by ordinal, that messages of a row are keyed by, in order: those that a step names, else the key of its table;
    /// empty where there is neither, and then the order of its messages is not kept.
    /// </summary>
    public IReadOnlyList<int> MessageKey
    {
        get
        {
            var named = columns.Any(column => column.MessageKeyOrdinal > 0);
            int OrdinalOf(TreatedColumn column) => named ? column.MessageKeyOrdinal : column.KeyOrdinal;
            return [.. Enumerable.Range(0, columns.Length).Where(i => OrdinalOf(columns[i]) > 0).OrderBy(i => OrdinalOf(columns[i]))];
        }
    }

    public ApplyMode Mode { get; }

    /// <summary>Every row crosses into one table, and its values as they are; columns may be left out or called otherwise.</summary>
    public bool PassesAll { get; }

    /// <summary>Rows cross as they are, byte for byte.</summary>
    public bool IsIdentity { get; }

    /// <summary>Every column that crosses keeps its type.</summary>
    public bool KeepsTypes => Columns.All(column => column.IsPassed && column.Type == Source.Columns[column.Source].Type);

    /// <summary>The target's table has the source's columns, by the same names and types.</summary>
    public bool KeepsForm => IsIdentity && KeepsTypes && Columns.All(column => column.Name == Source.Columns[column.Source].Name);

    /// <summary>Whether the rows of the target are all those of the source, so that what refers to them finds them.</summary>
    public bool KeepsAllRows => OwnTables.Count == 1 && keeps.Length == 0;

    /// <summary>Whether its rows stand in one table with those of others.</summary>
    public bool IsCombined => Tables[0].Schema.Shared is not null;

    /// <summary>Whether rows are expected to be there, or not, as the log says; not where deleted ones stay.</summary>
    public bool MeetsExpectations => Mode != ApplyMode.KeepDeleted;

    /// <summary>
    /// The source's columns for whose sake a change of a row must be told with the whole row as it was: those that a condition
    /// reads and that are not in the key, those that are reckoned with others and that the log may leave out, and of a table whose
    /// versions are kept all that it may leave out.
    /// </summary>
    public IReadOnlyList<string> WholeRowsFor(IEngineTypes types)
    {
        ArgumentNullException.ThrowIfNull(types);
        if (Mode == ApplyMode.InsertOnly)
        {
            return [];
        }

        var needed = conditionColumns.Where(ordinal => Source.Columns[ordinal].KeyOrdinal == 0);
        var reckoned = columns
            .Where(column => column.Reads.Count > 1)
            .SelectMany(column => column.Reads)
            .Where(ordinal => types.MeaningOf(Source.Columns[ordinal]).MayBeAbsent);
        var kept =
            Mode == ApplyMode.KeepVersions
                ? columns.SelectMany(column => column.Reads).Where(ordinal => types.MeaningOf(Source.Columns[ordinal]).MayBeAbsent)
                : [];
        return
        [
            .. needed
                .Concat(reckoned)
                .Concat(kept)
                .Concat(Children.Select(child => child.From))
                .Distinct()
                .Order()
                .Select(ordinal => Source.Columns[ordinal].Name),
        ];
    }

    /// <summary>The target table that a whole row goes into; null when it is left out.</summary>
    public TreatedTable? TableOf(Row row)
    {
        foreach (var keep in keeps)
        {
            if (!keep.IsTrue(row))
            {
                return null;
            }
        }

        foreach (var table in OwnTables)
        {
            if (table.When?.IsTrue(row) != false)
            {
                return table;
            }
        }

        return null;
    }

    /// <summary>The conditions that leave rows out, in their order.</summary>
    public IReadOnlyList<Expression> Keeps => keeps;

    /// <summary>
    /// Whether what the target has of a row depends on nothing but the row as it is at the source, and is one row of one table: then it
    /// can be written again at any time.
    /// </summary>
    public bool IsRepeatable =>
        OwnTables.Count == 1
        && Children.Count == 0
        && Mode == ApplyMode.Upsert
        && Source.HasKey
        && columns.All(column => column.Mark == SystemColumn.None);

    /// <summary>
    /// Appends what gives the target what it is to have of a row, whatever it has of it now: an update with the row, or a delete. Throws
    /// <see cref="EvaluationException"/> when something cannot be reckoned. Only where <see cref="IsRepeatable"/>.
    /// </summary>
    /// <param name="key">A row that has its key; other values do not matter.</param>
    /// <param name="after">The row; none where it is not there any more. Values that are absent keep what the target has.</param>
    /// <param name="into">Gets it.</param>
    public void Overwrite(Row key, Row after, ICollection<TreatedChange> into)
    {
        ArgumentNullException.ThrowIfNull(into);
        into.Add(
            after.IsNone || TableOf(after) is not { } table
                ? new TreatedChange(OwnTables[0], new RowChange(ChangeKind.Delete, 0, maker.KeyOf(key, Datum.Null), default))
                : new TreatedChange(table, new RowChange(ChangeKind.Update, 0, default, maker.Make(after, "update", null, isWhole: true)))
        );
    }

    /// <summary>Appends what is to be applied for a row of a load. Throws <see cref="EvaluationException"/>.</summary>
    public void Load(Row row, ICollection<TreatedChange> into)
    {
        ArgumentNullException.ThrowIfNull(into);
        if (TableOf(row) is { } table)
        {
            into.Add(new TreatedChange(table, new RowChange(ChangeKind.Insert, 0, default, maker.Make(row, "load", null))));
            foreach (var child in Children)
            {
                child.Load(row, into);
            }
        }
    }

    /// <summary>
    /// Appends what is to be applied for a change, nothing where it does not concern the target. Throws
    /// <see cref="EvaluationException"/> when something cannot be reckoned. Where versions are kept, it is the net change of a row by
    /// its transaction.
    /// </summary>
    public void Treat(RowChange change, DateTimeOffset committedAt, ICollection<TreatedChange> into)
    {
        ArgumentNullException.ThrowIfNull(into);
        if (Mode == ApplyMode.KeepVersions)
        {
            Version(change, committedAt, into);
            return;
        }

        switch (change.Kind)
        {
            case ChangeKind.Insert:
                Insert(TableOf(change.After), change.Relation, change.After, committedAt, into);
                break;
            case ChangeKind.Update:
                Update(change, committedAt, into);
                break;
            case ChangeKind.Delete:
                Delete(TableOfBefore(change.Before), change.Relation, change.Before, committedAt, into);
                break;
            default:
                foreach (var table in Tables)
                {
                    into.Add(new TreatedChange(table, change));
                }

                break;
        }
    }

    private void Insert(TreatedTable? table, int relation, Row row, DateTimeOffset committedAt, ICollection<TreatedChange> into)
    {
        if (table is null)
        {
            return;
        }

        var after = maker.Make(row, "insert", committedAt, isWhole: true);

        // Where deleted rows stay, one of that key may be there: it becomes this one, whatever it was.
        into.Add(
            new TreatedChange(
                table,
                Mode == ApplyMode.KeepDeleted
                    ? new RowChange(ChangeKind.Update, relation, default, after)
                    : new RowChange(ChangeKind.Insert, relation, default, after)
            )
        );
        Repeat(relation, default, row, committedAt, into);
    }

    private void Delete(TreatedTable? table, int relation, Row row, DateTimeOffset committedAt, ICollection<TreatedChange> into)
    {
        if (table is null)
        {
            return;
        }

        into.Add(
            new TreatedChange(
                table,
                Mode == ApplyMode.KeepDeleted
                    ? new RowChange(ChangeKind.Update, relation, default, maker.Make(row, "delete", committedAt, committedAt))
                    : new RowChange(ChangeKind.Delete, relation, maker.Make(row, "delete", committedAt), default)
            )
        );
        Repeat(relation, row, default, committedAt, into);
    }

    private void Repeat(int relation, Row before, Row after, DateTimeOffset committedAt, ICollection<TreatedChange> into)
    {
        foreach (var child in Children)
        {
            child.Treat(relation, before, after, committedAt, into);
        }
    }

    private void Update(RowChange change, DateTimeOffset committedAt, ICollection<TreatedChange> into)
    {
        if (asksRowBefore && change.Before.IsNone)
        {
            throw new EvaluationException("the log does not carry the row as it was before");
        }

        var after = RowMerge.Fill(change.After, change.Before);
        if (conditionColumns.Length == 0 && Mode != ApplyMode.KeepDeleted)
        {
            into.Add(new TreatedChange(Tables[0], Changed(change, after, committedAt)));
            Repeat(change.Relation, change.Before, after, committedAt, into);
            return;
        }

        // Without the row before, its key is that of the row after, and conditions read nothing else.
        var from = TableOfBefore(change.Before.IsNone ? after : change.Before);
        var to = TableOf(after);
        if (from is not null && ReferenceEquals(from, to) && !(Mode == ApplyMode.KeepDeleted && MovesKey(change)))
        {
            into.Add(new TreatedChange(to!, Changed(change, after, committedAt)));
            Repeat(change.Relation, change.Before, after, committedAt, into);
            return;
        }

        Delete(from, change.Relation, change.Before.IsNone ? after : change.Before, committedAt, into);
        Insert(to, change.Relation, after, committedAt, into);
    }

    /// <summary>The version that held ends, and where the row continues, another begins.</summary>
    private void Version(RowChange change, DateTimeOffset committedAt, ICollection<TreatedChange> into)
    {
        if (asksRowBefore && change.Kind == ChangeKind.Update && change.Before.IsNone)
        {
            throw new EvaluationException("the log does not carry the row as it was before");
        }

        var after = change.After.IsNone ? default : RowMerge.Fill(change.After, change.Before);
        var before =
            change.Kind == ChangeKind.Insert ? default
            : change.Before.IsNone ? after
            : change.Before;
        var from = before.IsNone ? null : TableOfBefore(before);
        var to = after.IsNone ? null : TableOf(after);
        if (
            from is not null
            && ReferenceEquals(from, to)
            && !change.Before.IsNone
            && !change.Before.HasAbsent
            && maker.Make(before, "", null) == maker.Make(after, "", null)
        )
        {
            return;
        }

        if (from is not null)
        {
            into.Add(
                new TreatedChange(
                    from,
                    new RowChange(
                        ChangeKind.Update,
                        change.Relation,
                        maker.KeyOf(before, Datum.Of(CivilTime.Infinity)),
                        maker.KeyOf(before, RowMaker.Moment(committedAt))
                    )
                )
            );
        }

        if (to is not null)
        {
            var made = maker.Make(after, change.Kind == ChangeKind.Insert ? "insert" : "update", committedAt, isWhole: true);
            into.Add(
                new TreatedChange(
                    to,
                    made.HasAbsent
                        ? throw new EvaluationException("the log does not carry the whole row")
                        : new RowChange(ChangeKind.Insert, change.Relation, default, made)
                )
            );
        }
    }

    private bool MovesKey(RowChange change) =>
        !change.Before.IsNone
        && Source.HasKey
        && RowKey.Of(change.Before, Source.KeyOrdinals) != RowKey.Of(change.After, Source.KeyOrdinals);

    private RowChange Changed(RowChange change, Row after, DateTimeOffset committedAt) =>
        new(
            ChangeKind.Update,
            change.Relation,
            change.Before.IsNone ? default : maker.Make(change.Before, "update", committedAt),
            maker.Make(after, "update", committedAt, isWhole: true)
        );

    /// <summary>A row before may carry its key alone; conditions then read nothing else.</summary>
    private TreatedTable? TableOfBefore(Row before) => conditionColumns.Length == 0 ? Tables[0] : TableOf(before);
}
