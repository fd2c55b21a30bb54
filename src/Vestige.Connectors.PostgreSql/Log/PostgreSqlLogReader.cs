using System.Buffers;
using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>
/// Reads a slot forward. Every second the server is told how far everything is durable, also while nobody reads on, so that
/// it neither takes the reader for dead nor keeps log for nothing; and it is asked for an answer, since only what was heard
/// lately proves that there is nothing more to read. A silent line looks like a quiet database otherwise.
/// </summary>
internal sealed class PostgreSqlLogReader : ILogReader
{
    private const int ReadBytes = 1 << 20;
    private static readonly TimeSpan TellEvery = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan ProofAge = TimeSpan.FromSeconds(3);
    private static readonly Dictionary<int, TableSchema> None = [];
    private static readonly Dictionary<string, string> NoNotes = [];
    private readonly ReplicationLink link;
    private readonly RelationSchemas forms;
    private readonly LogDecoder decoder;
    private readonly LogHeartbeat marks;
    private readonly PartWatch parts;
    private readonly TableWatch tables;
    private readonly string who;
    private readonly int branch;
    private readonly TimeProvider clock;
    private readonly ITimer teller;
    private readonly Action gone;
    private LogPosition durable;
    private LogPosition given;
    private bool atHead;
    private bool hasBegun;
    private long heardAt;
    private DateTimeOffset lastSeenAt;

    public PostgreSqlLogReader(
        ReplicationLink link,
        RelationSchemas forms,
        LogHeartbeat marks,
        PartWatch parts,
        TableWatch tables,
        string who,
        LogPosition after,
        int branch,
        TimeProvider clock,
        Action gone
    )
    {
        this.link = link;
        this.forms = forms;
        this.clock = clock;
        this.gone = gone;
        this.branch = branch;
        this.marks = marks;
        this.parts = parts;
        (this.tables, this.who) = (tables, who);
        link.MostBytes = LogDecoder.MostBytes;
        decoder = new LogDecoder(forms, tables, after) { Ended = marks.Meet, Emptied = parts.Emptied };
        given = after;
        durable = marks.Confirmable(after);
        teller = clock.CreateTimer(_ => _ = TickAsync(), null, TellEvery, TellEvery);
    }

    /// <summary>The first read only gives notes of what was found on opening, before anything of the log.</summary>
    public async ValueTask<LogRead> ReadAsync(TimeSpan wait, CancellationToken cancellation)
    {
        if (!hasBegun)
        {
            hasBegun = true;
            return new LogRead([], None, decoder.Passed, AtHead: false)
            {
                Notes = new Dictionary<string, string>(await BesideTheLogAsync([])) { [ILogReader.DatabaseNote] = who },
                Versions = tables.TakeVersions(),
            }.On(branch);
        }

        await DecodeWhatIsHereAsync(cancellation);
        if (TakesMore && await link.FillAsync(decoder.Bytes > 0 ? TimeSpan.Zero : wait, cancellation))
        {
            await DecodeWhatIsHereAsync(cancellation);
        }

        await marks.KeepAsync(decoder.Passed);
        var fragments = decoder.Take();
        var notes = await BesideTheLogAsync(fragments);
        var proven = atHead && !decoder.Inside && clock.GetElapsedTime(heardAt) < ProofAge;
        given = decoder.Passed;
        return new LogRead(fragments, fragments.Count > 0 ? forms.TakeFresh() : None, decoder.Passed, proven)
        {
            Notes = notes,
            Versions = tables.TakeVersions(),
        }.On(branch);
    }

    /// <summary>
    /// Between transactions: notes, and what is not in the log but concerns a table, as a transaction of its own at the place
    /// that was reached; that place must be a new one.
    /// </summary>
    private async ValueTask<Dictionary<string, string>> BesideTheLogAsync(List<LogFragment> fragments)
    {
        if (decoder.Inside)
        {
            return NoNotes;
        }

        lastSeenAt = await tables.JudgeAsync(decoder.Passed) ?? lastSeenAt;
        if (decoder.Passed > given)
        {
            await TellChangesAsync(fragments);
        }
        else if (tables.Pending.Count > 0 || parts.HasFound())
        {
            marks.Urge();
        }

        var notes = parts.TakeNotes().Concat(tables.TakeNotes()).ToDictionary();
        if (marks.TakeNote() is { } mark)
        {
            notes.Add(LogHeartbeat.NoteName, mark);
        }

        return notes;
    }

    private async ValueTask TellChangesAsync(List<LogFragment> fragments)
    {
        var (at, ofParts) = await parts.JudgeAsync(decoder.Passed);
        List<TableChange> changes =
        [
            .. tables.Pending,
            .. ofParts.Where(change => !change.IsInLog).Select(change => change.In(tables)),
        ];
        foreach (var version in ofParts.Select(change => change.VersionIn(tables)).OfType<ToldVersion>())
        {
            tables.Add(version, decoder.Passed);
        }

        if (changes.Count == 0)
        {
            return;
        }

        var body = new ArrayBufferWriter<byte>();
        var row = new RowWriter();
        foreach (var change in changes)
        {
            change.Notice.Write(row);
            ChangeWriter.Write(
                body,
                ChangeKind.Schema,
                forms.NumberOf(change),
                default,
                row.Finish()
            );
        }

        tables.ReportedUpTo(decoder.Passed);
        var seenAt = ofParts.Any(change => !change.IsInLog) ? at : lastSeenAt;
        fragments.Add(new LogFragment(decoder.Passed, seenAt, First: true, Last: true, changes.Count, body.WrittenMemory));
    }

    /// <summary>Everything up to the position is durable here.</summary>
    public Task ConfirmAsync(LogPosition confirmed)
    {
        var position = confirmed.On(0);
        durable = LogPosition.Max(durable, marks.Confirmable(position));
        tables.Keep(position);
        return TellAsync(answer: false);
    }

    public async ValueTask DisposeAsync()
    {
        gone();
        await teller.DisposeAsync();
        await link.DisposeAsync();
    }

    private bool TakesMore => decoder.Bytes < ReadBytes && !decoder.HasTold;

    private async Task DecodeWhatIsHereAsync(CancellationToken cancellation)
    {
        while (TakesMore && link.TryNext(out var message))
        {
            switch (message.Kind)
            {
                case 'd':
                    await TakeAsync(message, cancellation);
                    break;
                case 'E':
                    throw link.FailureOf(message.Body.Span);
                case 'c':
                    throw new Engine.Faults.PortException("The server ended the reading of the log.")
                    {
                        Transient = true,
                        Remedy = "Check the server. Vestige retries automatically.",
                    };
            }
        }
    }

    private async ValueTask TakeAsync(WireMessage message, CancellationToken cancellation)
    {
        var body = message.Body;
        if (body.Span[0] == (byte)'w')
        {
            atHead = false;
            if (message.Omitted > 0)
            {
                decoder.DecodeTooLarge(body.Span[25..], body.Length + message.Omitted);
                return;
            }

            await decoder.DecodeAsync(body[25..], cancellation);
        }
        else if (body.Span[0] == (byte)'k')
        {
            TakeKeepalive(body.Span, out var asks);
            if (asks)
            {
                await TellAsync(answer: false);
            }
        }
    }

    private void TakeKeepalive(ReadOnlySpan<byte> body, out bool asks)
    {
        var reader = new WireReader(body[1..]);
        var position = new LogPosition(reader.UInt64());
        marks.Pass(position);
        decoder.PassTo(position);
        reader.Int64();
        asks = reader.Byte() == 1;
        atHead = position >= decoder.Passed; // Not while what is known already comes once more.
        heardAt = clock.GetTimestamp();
    }

    /// <summary>Whether the loss of a table is not written down yet. Safe on any thread.</summary>
    public bool IsLosing(TableName table) => tables.IsLosing(table);

    private Task TickAsync()
    {
        tables.BeginLook();
        return TellAsync(answer: true);
    }

    private async Task TellAsync(bool answer)
    {
        try
        {
            await link.SendStatusAsync(durable, clock.GetUtcNow(), answer, CancellationToken.None);
        }
        catch (Exception exception) when (exception is Engine.Faults.PortException or ObjectDisposedException)
        {
            // A broken line is found by the next read.
        }
    }
}
