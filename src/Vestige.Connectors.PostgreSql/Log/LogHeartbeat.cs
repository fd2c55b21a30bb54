using System.Globalization;
using Npgsql;
using Vestige.Core.Positions;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Log;

// How another log with fitting positions is found out. Three marks are known at a time:
//
//     expected   the one that the spool's note names, while the server has not sent it again; null after that
//     last       the one that was met last
//     noted      the one that the last note named, or is about to
//
//  1. Nothing is confirmed at or beyond the noted mark, or the first one met where none is noted. So the server has to send it again.
//  2. While one is expected, what comes before its place was read before; the first thing at its place or beyond must be that mark.
//  3. A note is durable in the spool before anything is confirmed by it.
//
//  Case 1. The server's disk was put back, and its log has grown past the place since: at the place stands something else, by 2.
//  Case 2. Crash after a mark was met, before its note was durable: the older note is expected, and by 1 the server still has that mark.
//  Case 3. The first mark is met within a large transaction, where no notes are taken: it holds confirmations back all the same, by 1.
//  Case 4. Marks cannot be written (a standby, a server before 14, no right to): the one that is noted is given up with an empty note.

/// <summary>
/// Marks of our own in the log: small messages (PostgreSQL manual, pg_logical_emit_message) that a reader must meet again
/// when it comes back. Nothing is confirmed beyond the last one that is durable here, so the server has to send it again; a
/// log in which it does not stand where it stood is another one, however well its positions fit: a restored file system has
/// the same identity and timeline. They are written only while something moves, so that an idle server stays idle; and they
/// let the server drop log that only other databases wrote into.
/// </summary>
internal sealed class LogHeartbeat
{
    public const string Prefix = "vestige";
    public const string NoteName = "mark";
    private const long MovedBytes = 64 << 10;
    private const int MostFailures = 6;
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(10);
    private readonly PostgreSqlDatabase database;
    private readonly string reader;
    private readonly TimeProvider clock;
    private readonly bool possible;
    private (LogPosition At, string Text)? expected;
    private (LogPosition At, string Text)? last;
    private (LogPosition At, string Text)? noted;
    private bool told;
    private bool worked;
    private long writtenAt;
    private int failures;
    private bool urged;
    private Task? writing;

    /// <param name="database">The source.</param>
    /// <param name="reader">Tells our marks from those of others in the same log.</param>
    /// <param name="note">The last mark that was met, as noted; null when there is none.</param>
    /// <param name="possible">Whether this server takes marks from this role and gives them back.</param>
    /// <param name="clock">Tells how long ago the last one was written.</param>
    public LogHeartbeat(PostgreSqlDatabase database, string reader, string? note, bool possible, TimeProvider clock)
    {
        this.database = database;
        this.reader = reader;
        this.clock = clock;
        this.possible = possible;
        noted = Parse(note);
        expected = last = possible ? noted : null;
        told = possible || string.IsNullOrEmpty(note);
    }

    /// <summary>Where the server is told to begin so that it sends the mark of that note again; null when there is none.</summary>
    public static LogPosition? BeginOf(string? note) => Parse(note) is { } mark ? new LogPosition(mark.At.Offset - 1) : null;

    /// <summary>Whether the server takes them, and gives them to a reader (from version 14 on, and not from a standby).</summary>
    public static async Task<bool> ArePossibleAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT current_setting('server_version_num')::int4 >= 140000 AND NOT pg_is_in_recovery() AND "
                + "has_function_privilege('pg_logical_emit_message(boolean, text, text)', 'EXECUTE')",
            connection
        );
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }

    /// <summary>Whether a reader gets messages: from version 14 on.</summary>
    public static async Task<bool> AreToldAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SELECT current_setting('server_version_num')::int4 >= 140000", connection);
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }

    /// <summary>Something waits for a place in the log that is new: the next mark makes one, however quiet the server is.</summary>
    public void Urge() => urged = true;

    /// <summary>What is to be noted with this read; null when nothing is.</summary>
    public string? TakeNote()
    {
        if (told)
        {
            return null;
        }

        told = true;
        noted = last;
        return last is { } mark ? $"{mark.At.Offset.ToString(CultureInfo.InvariantCulture)}:{mark.Text}" : "";
    }

    /// <summary>A transaction of the log has ended.</summary>
    /// <param name="position">Its position.</param>
    /// <param name="message">The message in it that has our prefix; null when there is none.</param>
    public void Meet(LogPosition position, string? message)
    {
        if (expected is { } mark && position >= mark.At)
        {
            expected = position == mark.At && message == mark.Text ? null : throw Another(mark);
            return;
        }

        if (expected is null && message?.StartsWith(reader + ' ', StringComparison.Ordinal) == true)
        {
            last = (position, message);
            told = false;
            worked = false;
        }
        else
        {
            worked |= message is null;
        }
    }

    /// <summary>The server says that it has sent everything up to a place.</summary>
    public void Pass(LogPosition position)
    {
        if (expected is { } mark && position >= mark.At)
        {
            throw Another(mark);
        }
    }

    /// <summary>
    /// How far may be confirmed when everything up to the position is durable here, the notes taken until now included. The first
    /// mark of a log holds it back from when it is met: within a transaction no notes are taken, and one that is taken after that
    /// must still be sent again.
    /// </summary>
    public LogPosition Confirmable(LogPosition position) =>
        (noted ?? last) is { } mark ? new LogPosition(Math.Min(position.Offset, mark.At.Offset - 1)) : position;

    /// <summary>
    /// Writes the next mark when it is time for it. Throws when it fails for a minute: the log is read on without marks, but
    /// nothing is confirmed, and the server keeps its log.
    /// </summary>
    public async ValueTask KeepAsync(LogPosition passed)
    {
        if (writing is { } attempt)
        {
            if (!attempt.IsCompleted)
            {
                return;
            }

            writing = null;
            await SettleAsync(attempt);
        }

        if (possible && expected is null && (urged || IsDue(passed)))
        {
            urged = false;
            writtenAt = clock.GetTimestamp();
            writing = WriteAsync();
        }
    }

    private async Task SettleAsync(Task attempt)
    {
        try
        {
            await attempt;
            failures = 0;
        }
        catch (PortException exception) when (exception.Transient && ++failures < MostFailures)
        {
            // The next attempt is made when it is time for it.
        }
    }

    private bool IsDue(LogPosition passed) =>
        writtenAt == 0 ? last is null || Moved(passed) : clock.GetElapsedTime(writtenAt) >= Every && Moved(passed);

    private bool Moved(LogPosition passed) => worked || last is null || (long)passed.Offset - (long)last.Value.At.Offset >= MovedBytes;

    private async Task WriteAsync() =>
        await database.UseAsync(
            "Writing a mark into the log",
            async (connection, stop) =>
            {
                // Nobody waits for it, and it must not wait for a standby.
                await using var command = new NpgsqlCommand(
                    "SELECT set_config('synchronous_commit', 'off', true), pg_logical_emit_message(true, $1, $2)",
                    connection
                );
                command.Parameters.Add(PostgreSqlDatabase.Text(Prefix));
                command.Parameters.Add(PostgreSqlDatabase.Text($"{reader} {Guid.NewGuid():N}"));
                await command.ExecuteScalarAsync(stop);
                return true;
            },
            CancellationToken.None
        );

    private PlaceLostException Another((LogPosition At, string Text) mark) =>
        new(
            $"The log of {database.Endpoint} does not hold at {Lsn.Format(mark.At)} what was read from it there. The database was "
                + "restored from an older state and has been written since."
        )
        {
            Remedy = "Load the crossings of this source again, or give them up.",
        };

    private static (LogPosition At, string Text)? Parse(string? note)
    {
        var colon = note?.IndexOf(':', StringComparison.Ordinal) ?? -1;
        return colon > 0 ? (new LogPosition(ulong.Parse(note.AsSpan(0, colon), CultureInfo.InvariantCulture)), note![(colon + 1)..]) : null;
    }
}
