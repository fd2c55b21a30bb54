using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>Finds a place in the past from which changes of some tables are to be taken, where the spool holds all of them.</summary>
/// <param name="source">Says how positions are written.</param>
/// <param name="spool">What is held of its log; null when its log is not read.</param>
/// <param name="clock">Only what has happened can be begun from.</param>
internal sealed class PastStart(SourceSystem source, Spool? spool, TimeProvider clock)
{
    private const int ReadBytes = 4 << 20;
    private const string Step = "log kept";
    private const string KeepFirst =
        "Let the log be kept for this crossing, load its tables then, and start it from a position or time after that.";

    /// <summary>The check about the place, and the place; null when it cannot be begun from.</summary>
    public async Task<(ReadinessCheck Check, LogPosition? Position)> FindAsync(
        StartPlace from,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        var lacking = tables.Where(table => spool?.Retained(table)?.WholeAfter is null).Order().ToList();
        if (spool is null || !spool.Readable || lacking.Count > 0)
        {
            return No(
                lacking.Count == 0
                    ? "the log is not read"
                    : $"the log of {lacking[0]}{(lacking.Count > 1 ? $" and {lacking.Count - 1} more" : "")} is not kept",
                KeepFirst
            );
        }

        var since = tables.Count == 0 ? spool.Begin : tables.Max(table => spool.Retained(table)!.WholeAfter!.Value);
        return from.Position is { } text ? AtPosition(text, since) : await AtTimeAsync(from.Time!.Value, since, cancellation);
    }

    /// <summary>
    /// How many rows more than as of a place the tables have by the end of the spool: inserts less deletes; null for a table that
    /// was truncated or altered meanwhile.
    /// </summary>
    public async Task<Dictionary<TableName, long?>> RowsSinceAsync(
        LogPosition from,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        var more = tables.ToDictionary(table => table, _ => (long?)0);
        var (reader, last) = (spool!.ReadAfter(from), spool.Last);
        for (var at = from; at < last;)
        {
            var read = await reader.TryReadAsync(ReadBytes, cancellation);
            if (read.Count == 0)
            {
                break;
            }

            foreach (var fragment in read)
            {
                Count(fragment, more);
            }

            at = read[^1].Position;
        }

        return more;
    }

    private void Count(SpooledFragment fragment, Dictionary<TableName, long?> more)
    {
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            var table = spool!.Relation(change.Relation).Name;
            if (more.TryGetValue(table, out var rows))
            {
                more[table] = change.Kind switch
                {
                    ChangeKind.Insert => rows + 1,
                    ChangeKind.Delete => rows - 1,
                    ChangeKind.Update => rows,
                    _ => null,
                };
            }
        }
    }

    private (ReadinessCheck Check, LogPosition? Position) AtPosition(string text, LogPosition since)
    {
        if (source.Log.Parse(text, since.Branch) is not { } position)
        {
            return No(
                $"'{text}' is not a position of this source",
                $"Write it as the source does, for example {source.Log.Format(since)}."
            );
        }

        if (position < since)
        {
            return No(
                $"all changes of these tables are held after {source.Log.Format(since)}, and {text} lies before",
                "Choose a later position, load the tables as of then, and start from it."
            );
        }

        return position > spool!.Last
            ? No(
                $"the log has been read up to {source.Log.Format(spool.Last)}, and {text} lies after",
                "Wait until it is read, or choose an earlier position."
            )
            : Yes(position, since);
    }

    /// <summary>Where the run of transactions that were committed by then ends.</summary>
    private async Task<(ReadinessCheck Check, LogPosition? Position)> AtTimeAsync(
        DateTimeOffset time,
        LogPosition since,
        CancellationToken cancellation
    )
    {
        if (time > clock.GetUtcNow())
        {
            return No($"{Said(time)} is still to come", "Choose a time that has passed.");
        }

        var reader = spool!.ReadAfter(since);
        var from = since;
        while (true)
        {
            var read = await reader.TryReadAsync(ReadBytes, cancellation);
            if (read.Count == 0)
            {
                return No($"the log has not been read as far as {Said(time)}", "Wait a moment, or choose an earlier time.");
            }

            if (from == since && read[0].CommittedAt > time)
            {
                return No(
                    $"the first transaction of which all is held was committed at {Said(read[0].CommittedAt)}, after {Said(time)}",
                    "Choose a later time, load the tables as of then, and start from it."
                );
            }

            foreach (var fragment in read)
            {
                if (fragment.CommittedAt > time)
                {
                    return Yes(from, since);
                }

                from = fragment.Position;
            }
        }
    }

    private (ReadinessCheck Check, LogPosition? Position) Yes(LogPosition from, LogPosition since) =>
        (
            new ReadinessCheck(
                Step,
                true,
                $"changes are taken after position {source.Log.Format(from)}; all of these tables are held after "
                    + $"{source.Log.Format(since)}, {Figures.Bytes(spool!.Distance(source.Log, from, spool.Last))} of log lie between "
                    + "it and now",
                Needed,
                null,
                TimeSpan.Zero
            ),
            from
        );

    private static (ReadinessCheck Check, LogPosition? Position) No(string found, string remedy) =>
        (new ReadinessCheck(Step, false, found, Needed, remedy, TimeSpan.Zero), null);

    private const string Needed = "every change of these tables since the place from which they are taken";

    private static string Said(DateTimeOffset time) =>
        time.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss.ffffff 'UTC'", CultureInfo.InvariantCulture);
}
