using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>The tables of the simulated world, and their rows.</summary>
public static class SimRows
{
    public static readonly TableSchema First = Table("first");
    public static readonly TableSchema Second = Table("second");
    public static readonly TableSchema Other = Table("other");

    public static readonly IReadOnlyList<TableSchema> All = [First, Second, Other];

    public static Row Of(long key, string value)
    {
        var writer = new RowWriter();
        writer.Begin(2);
        writer.Integer(key);
        writer.Text(value);
        return writer.ToRow();
    }

    /// <summary>A row widened to a number of columns; the new ones have a value or NULL.</summary>
    public static Row Widened(Row row, int columns, string? value = null)
    {
        var writer = new RowWriter();
        writer.Begin(columns);
        for (var i = 0; i < columns; i++)
        {
            if (i < row.Count)
            {
                writer.Value(row.KindAt(i), row.ValueAt(i));
            }
            else if (value is null)
            {
                writer.Null();
            }
            else
            {
                writer.Text($"{value}:{i}");
            }
        }

        return writer.ToRow();
    }

    /// <summary>A row of one form as a row of another, by the numbers of the columns.</summary>
    public static Row As(Row row, TableSchema before, TableSchema after)
    {
        var writer = new RowWriter();
        writer.Begin(after.Columns.Count);
        foreach (var column in after.Columns)
        {
            var place = before.Columns.ToList().FindIndex(one => one.Id == column.Id);
            if (place >= 0)
            {
                writer.Value(row.KindAt(place), row.ValueAt(place));
            }
            else if (column.Missing is { } value)
            {
                writer.Text(value);
            }
            else
            {
                writer.Null();
            }
        }

        return writer.ToRow();
    }

    /// <summary>The same row as an engine has it whose rows hold texts.</summary>
    public static Row AsTexts(Row row)
    {
        var writer = new RowWriter();
        writer.Begin(row.Count);
        for (var i = 0; i < row.Count; i++)
        {
            writer.Text(row.DisplayAt(i));
        }

        return writer.ToRow();
    }

    /// <summary>A hash of one row in its table; the sum over all rows tells a state, whatever the order.</summary>
    public static ulong Hash(TableName table, Row row)
    {
        var hash = 14695981039346656037UL;
        foreach (var letter in table.Name)
        {
            hash = (hash ^ letter) * 1099511628211UL;
        }

        foreach (var octet in row.Bytes.Span)
        {
            hash = (hash ^ octet) * 1099511628211UL;
        }

        return hash;
    }

    private static TableSchema Table(string name) =>
        new(new TableName("sim", name), [new Column("id", "INTEGER", Nullable: false, KeyOrdinal: 1), new Column("value", "TEXT")], [], []);
}
