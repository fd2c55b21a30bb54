using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Types;

namespace Vestige.Core.Treatments;

/// <summary>Makes the target's rows out of the source's, column by column. Not safe for several threads at once.</summary>
internal sealed class RowMaker
{
    private readonly TreatedColumn[] columns;
    private readonly int[] runs;
    private readonly IRowEncoding encoding;
    private readonly RowWriter writer = new();

    public RowMaker(TreatedColumn[] columns, IRowEncoding encoding)
    {
        (this.columns, this.encoding) = (columns, encoding);
        runs = [.. Enumerable.Range(0, columns.Length).Select(RunAt)];
    }

    /// <summary>
    /// The row as the target gets it. A made value stays absent where what it is made from is absent, for that did not change.
    /// </summary>
    /// <param name="row">The source's row.</param>
    /// <param name="operation">What happened to it.</param>
    /// <param name="committedAt">When; null for a load.</param>
    /// <param name="deletedAt">When it was deleted; null while it is there.</param>
    /// <param name="isWhole">Whether a value of which only a part is absent is an error: what is there may have changed.</param>
    public Row Make(Row row, string operation, DateTimeOffset? committedAt, DateTimeOffset? deletedAt = null, bool isWhole = false)
    {
        writer.Begin(columns.Length);
        for (var i = 0; i < columns.Length; i++)
        {
            var column = columns[i];
            if (column.Source >= 0)
            {
                writer.Values(row, column.Source, runs[i]);
                i += runs[i] - 1;
            }
            else if (column.Mark != SystemColumn.None)
            {
                Write(
                    column,
                    column.Mark switch
                    {
                        SystemColumn.Operation => Datum.Of(operation),
                        SystemColumn.CommittedAt or SystemColumn.ValidFrom => Moment(committedAt),
                        SystemColumn.ValidTo => Datum.Of(CivilTime.Infinity),
                        _ => Moment(deletedAt),
                    }
                );
            }
            else if (Absent(row, column.Reads) is > 0 and var absent)
            {
                if (isWhole && absent < column.Reads.Count)
                {
                    throw new EvaluationException($"the log does not carry all that {column.Name} is reckoned from");
                }

                writer.Absent();
            }
            else if (column.Put is { } put)
            {
                put(row, writer);
            }
            else
            {
                Write(column, column.Make!(row));
            }
        }

        return writer.ToRow();
    }

    /// <summary>How many of the values the log left out.</summary>
    private static int Absent(Row row, IReadOnlyList<int> reads)
    {
        var absent = 0;
        for (var i = 0; i < reads.Count; i++)
        {
            absent += row.KindAt(reads[i]) == ValueKind.Absent ? 1 : 0;
        }

        return absent;
    }

    /// <summary>How many columns from here on are passed and stand beside each other in the source's row as well.</summary>
    private int RunAt(int first)
    {
        var count = 1;
        while (
            first + count < columns.Length
            && columns[first + count].IsPassed
            && columns[first + count].Source == columns[first].Source + count
        )
        {
            count++;
        }

        return count;
    }

    public static Datum Moment(DateTimeOffset? at) =>
        at is { } moment ? Datum.Of((moment.UtcTicks - DateTimeOffset.UnixEpoch.Ticks) / TimeSpan.TicksPerMicrosecond) : Datum.Null;

    private void Write(TreatedColumn column, Datum value) => encoding.Write(column.Meaning.Type, value, writer);

    /// <summary>The key of a version, and nothing else of it.</summary>
    public Row KeyOf(Row row, Datum validTo)
    {
        writer.Begin(columns.Length);
        foreach (var column in columns)
        {
            if (column.KeyOrdinal == 0)
            {
                writer.Absent();
            }
            else if (column.IsPassed)
            {
                writer.Values(row, column.Source, 1);
            }
            else if (column.Put is { } put)
            {
                put(row, writer);
            }
            else
            {
                Write(column, column.Mark == SystemColumn.ValidTo ? validTo : column.Make!(row));
            }
        }

        return writer.ToRow();
    }
}
