using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// What is done to the tables of a simulated source and is not in its log: rows get other values, come or go, and the table gets another
/// identity. A connector sees it when it looks: before the next row of the table at the latest, as a change that it puts into what it
/// reads. Between the two no row of the table is read.
/// </summary>
public sealed class SimRestructuring
{
    /// <summary>The kinds of what is done to a table.</summary>
    public const int Kinds = 10;

    /// <summary>One of these: it was dropped and created as it was at first, with columns of the same numbers.</summary>
    private const int Recreated = 2;

    /// <summary>One of these: rows came, changed and went, and the log does not show it.</summary>
    private const int Lost = 3;

    /// <summary>From this one on the rows stay, and columns come, go or are called otherwise.</summary>
    private const int Columns = 4;

    /// <summary>How many columns a table has at first.</summary>
    private const int FirstColumns = 3;
    private readonly Dictionary<TableName, int> current;
    private readonly Dictionary<TableName, SchemaNotice> untold = [];
    private readonly List<Restructured> made = [];
    private readonly Dictionary<TableName, int> lives = [];
    private int number;

    public SimRestructuring(bool happens)
    {
        Happens = happens;
        Relations = happens ? [.. SimRows.All.Select(Numbered)] : [.. SimRows.All];
        current = SimRows.All.Select((table, i) => (table.Name, i)).ToDictionary();
    }

    public bool Happens { get; }

    /// <summary>A broken connector: it never looks.</summary>
    public bool IsNotSeen { get; init; }

    /// <summary>A broken connector: it looks only after it has given the rows.</summary>
    public bool IsSeenLate { get; init; }

    /// <summary>Every form that a table ever had, by the number under which the log names it.</summary>
    public List<TableSchema> Relations { get; }

    /// <summary>The tables as the catalogue has them now.</summary>
    public IReadOnlyList<TableSchema> Tables => [.. current.Values.Select(relation => Relations[relation])];

    public int RelationOf(TableName table) => current[table];

    /// <summary>Whether a table had another identity or other rows at that position than it has now.</summary>
    public bool HappenedSince(TableName table, LogPosition position) => made.Exists(one => one.Table == table && one.At > position);

    /// <summary>Gives the table another form. Returns the rows that it has then.</summary>
    public IEnumerable<Row> Make(TableName table, int kind, LogPosition at, IReadOnlyCollection<Row> rows)
    {
        number++;
        made.Add(new Restructured(table, at, [.. rows]));
        var form = Relations[current[table]];
        var values = kind is 0 or Lost;
        var life = lives[table] = lives.GetValueOrDefault(table) + (kind == Recreated ? 1 : 0);
        var after = kind switch
        {
            >= Columns => WithOtherColumns(form, kind),
            Recreated => form with { Columns = Numbered(SimRows.All.Single(table => table.Name == form.Name)).Columns },
            _ => form,
        };
        var relation = values
            ? form with { Stamp = $"{number}" }
            : after with { Incarnation = $"{life}.{number}", Stamp = $"{number}", Generation = number };
        current[table] = Relations.Count;
        Relations.Add(relation);
        untold[table] = Together(untold.GetValueOrDefault(table), NoticeOf(kind, form, relation), relation);
        Row Other(Row row) => SimRows.Widened(SimRows.Of(row.IntegerAt(0), $"{row.TextAt(1)}:{number}"), row.Count);
        return kind switch
        {
            Recreated => [],
            Lost =>
            [
                .. rows.Where(row => row.IntegerAt(0) % 2 == 0).Select(Other),
                SimRows.Widened(SimRows.Of(1000 + number, "came unseen"), form.Columns.Count),
            ],
            >= Columns => rows.Select(row => SimRows.As(row, form, after)),
            _ => rows.Select(Other),
        };
    }

    /// <summary>
    /// One column goes, of those that came; or one is called otherwise; or one comes, with a value in all rows or without.
    /// </summary>
    private TableSchema WithOtherColumns(TableSchema form, int kind)
    {
        var columns = form.Columns.ToList();
        switch (kind)
        {
            case Columns when columns.Count > 2:
                columns.RemoveAt(2 + (number % (columns.Count - 2)));
                break;
            case Columns + 1 or Columns + 2:
                var renamed = 1 + (number % (columns.Count - 1));
                columns[renamed] = columns[renamed] with { Name = $"r{number}" };
                break;
            default:
                var missing = kind == Columns + 3 ? $"m{number}" : null;
                columns.Add(new Column($"c{number}", "TEXT", Id: FirstColumns + number) { Missing = missing });
                break;
        }

        return form with { Columns = columns };
    }

    /// <summary>A table as a database has it that numbers tables and, within each, columns.</summary>
    private static TableSchema Numbered(TableSchema table) =>
        table with
        {
            Columns = [.. table.Columns.Append(new Column("more", "TEXT")).Select((column, place) => column with { Id = place + 1 })],
            Incarnation = "0.0",
            Stamp = "0",
        };

    private static SchemaNotice NoticeOf(int kind, TableSchema before, TableSchema after)
    {
        var what = kind switch
        {
            0 => "its rows were rewritten",
            1 => "columns changed places",
            Lost => "a stretch of its changes is not in the log",
            >= Columns => string.Join("; ", SchemaComparison.Between(before, after).Select(change => change.Words)),
            _ => "it was dropped and created",
        };
        return kind < Columns
            ? new SchemaNotice(what, kind is 0 or Lost)
            : new SchemaNotice(what) { Changes = SchemaComparison.Steps(before, after), Before = before };
    }

    /// <summary>What one look makes of two changes: it compares columns, and recognises nothing else.</summary>
    private static SchemaNotice Together(SchemaNotice? first, SchemaNotice second, TableSchema after) =>
        first is null ? second
        : first.Changes.Count > 0 && second.Changes.Count > 0
            ? new SchemaNotice($"{first.What}; {second.What}")
            {
                Changes = SchemaComparison.Steps(first.Before!, after),
                Before = first.Before,
            }
        : new SchemaNotice($"{first.What}; {second.What}", first.Values || second.Values);

    /// <summary>What a look at these tables finds, as changes that stand before whatever is read next.</summary>
    public IEnumerable<RowChange> Look(IEnumerable<TableName> tables, LogPosition told)
    {
        foreach (var table in tables)
        {
            if (untold.Remove(table, out var notice) && !IsNotSeen)
            {
                made.FindAll(one => one.Table == table && one.Reported is null).ForEach(one => one.Reported = told);
                var row = new RowWriter();
                notice.Write(row);
                yield return new RowChange(ChangeKind.Schema, current[table], default, row.ToRow());
            }
        }
    }

    /// <summary>Whether at a position nobody can know yet that what was loaded before is not what the source has.</summary>
    public bool IsUnseen(TableName table, LogPosition loaded, LogPosition position) =>
        made.Exists(one => one.Table == table && one.At > loaded && one.At <= position && !(one.Reported <= position));

    /// <summary>Whether these are the rows that the table had before one of the changes.</summary>
    public bool WereBefore(TableName table, IReadOnlyCollection<Row> rows) =>
        made.Exists(one => one.Table == table && one.Before.Count == rows.Count && one.Before.ToHashSet().SetEquals(rows));

    public string Describe(TableName table) =>
        string.Join(", ", made.Where(one => one.Table == table).Select(one => $"changed at {one.At}, told at {one.Reported}"));

    private sealed record Restructured(TableName Table, LogPosition At, IReadOnlyList<Row> Before)
    {
        public LogPosition? Reported { get; set; }
    }
}
