using Vestige.Core.Positions;
using Vestige.Engine.Events;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Capturing;

/// <summary>
/// Continues with an empty spool where the log can still be read, if every target has what came before: then the spool is only older
/// than they are, as after a restored backup, and nothing is missing.
/// </summary>
internal sealed class LogContinuation(string connection, Spool spool, CarriedTables tables, EventLog events, MissingBefore? missing)
{
    /// <summary>False when something is missing, or nobody can say; then nothing was changed.</summary>
    /// <param name="written">The position in the source's own notation.</param>
    /// <param name="at">From where the log can be read.</param>
    /// <param name="loss">Why it cannot be read from where the spool ends.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<bool> TryAsync(string written, LogPosition at, string loss, CancellationToken cancellation)
    {
        var identity = spool.Identity!;
        if (missing is null)
        {
            return false;
        }

        if (await missing(connection, identity, at, cancellation) is { } why)
        {
            await events.OfConnectionAsync(connection, EventKind.Note, $"The log can be read from {written}, but {why}.");
            return false;
        }

        // What was read without a gap before is so from there on.
        var whole = spool.Tables.Where(table => spool.Retained(table)?.WholeAfter is not null).ToList();
        tables.Ask(spool.Tables);
        await spool.ClearAsync(cancellation);
        await spool.StartAsync(identity, at, cancellation);
        tables.RetainsWhole(whole, at);
        await events.OfConnectionAsync(
            connection,
            EventKind.Warning,
            $"Restored: {loss} Every target has what came before, so an empty spool begins there. Changes that were quarantined since "
                + "the backup are not known here; compare the tables."
        );
        return true;
    }
}
