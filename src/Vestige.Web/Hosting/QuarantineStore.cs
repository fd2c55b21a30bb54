using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Storage;
using Vestige.Storage.Entities;

namespace Vestige.Web.Hosting;

/// <summary>Quarantined changes, and what was decided of them, in the store of the data folder, each sealed as a whole.</summary>
public sealed class QuarantineStore(StoreFactory factory, ISpoolCipher cipher) : IQuarantineStore
{
    public async Task<IReadOnlyList<WaitingChange>> ReadAsync(string crossing, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var records = await store
            .Waiting.AsNoTracking()
            .Where(change => change.Crossing == crossing)
            .Select(change => change.Sealed)
            .ToListAsync(cancellation);
        return [.. records.Select(Open).OrderBy(change => change.Position).ThenBy(change => change.Ordinal)];
    }

    public Task WriteAsync(
        string crossing,
        IReadOnlyList<WaitingChange> kept,
        IReadOnlyList<string> dropped,
        IReadOnlyList<DecidedChange> decided,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(kept);
        ArgumentNullException.ThrowIfNull(decided);
        return factory.ChangeAsync(
            "The quarantine",
            async store =>
            {
                foreach (var change in kept)
                {
                    var (id, secret) = (change.Id, Seal(change));
                    await store.Database.ExecuteSqlAsync(
                        $"""
                        INSERT INTO "Waiting" ("Crossing", "Id", "Sealed") VALUES ({crossing}, {id}, {secret})
                        ON CONFLICT ("Crossing", "Id") DO UPDATE SET "Sealed" = excluded."Sealed"
                        """,
                        cancellation
                    );
                }

                await store
                    .Waiting.Where(change => change.Crossing == crossing && dropped.Contains(change.Id))
                    .ExecuteDeleteAsync(cancellation);
                if (decided.Count > 0)
                {
                    store.Decided.AddRange(
                        decided.Select(one => new DecidedRecord
                        {
                            Crossing = crossing,
                            Table = one.Change.Table.ToString(),
                            AtTicks = one.At.UtcTicks,
                            Sealed = Seal(one),
                        })
                    );
                    await store.SaveChangesAsync(cancellation);
                    await store
                        .Decided.Where(one => one.Crossing == crossing)
                        .OrderByDescending(one => one.Number)
                        .Skip(DecidedChange.Kept)
                        .ExecuteDeleteAsync(cancellation);
                }
            },
            cancellation
        );
    }

    public async Task<IReadOnlyList<DecidedChange>> DecidedAsync(
        string crossing,
        TableName? table,
        int most,
        CancellationToken cancellation
    )
    {
        await using var store = factory.CreateDbContext();
        var name = table?.ToString();
        var records = await store
            .Decided.AsNoTracking()
            .Where(one => one.Crossing == crossing && (name == null || one.Table == name))
            .OrderByDescending(one => one.Number)
            .Take(most)
            .Select(one => one.Sealed)
            .ToListAsync(cancellation);

        // Two names may be written alike.
        return [.. records.Select(OpenDecided).Where(one => table is null || one.Change.Table == table)];
    }

    public Task ForgetAsync(string crossing, CancellationToken cancellation) =>
        factory.ChangeAsync(
            "The quarantine",
            async store =>
            {
                await store.Waiting.Where(change => change.Crossing == crossing).ExecuteDeleteAsync(cancellation);
                await store.Decided.Where(one => one.Crossing == crossing).ExecuteDeleteAsync(cancellation);
            },
            cancellation
        );

    /// <summary>Drops what was decided before a moment.</summary>
    public Task ForgetAsync(DateTimeOffset before, CancellationToken cancellation) =>
        factory.ChangeAsync(
            "The quarantine",
            store => store.Decided.Where(one => one.AtTicks < before.UtcTicks).ExecuteDeleteAsync(cancellation),
            cancellation
        );

    private byte[] Seal(DecidedChange decided) =>
        cipher.Seal(
            JsonSerializer.SerializeToUtf8Bytes(
                new KeptDecision(KeptOf(decided.Change), decided.Dropped, decided.By, decided.At, decided.Words)
            )
        );

    private DecidedChange OpenDecided(byte[] secret)
    {
        var kept = JsonSerializer.Deserialize<KeptDecision>(cipher.Open(secret))!;
        return new DecidedChange(ChangeOf(kept.Change), kept.Dropped, kept.By, kept.At, kept.Words);
    }

    private byte[] Seal(WaitingChange change) => cipher.Seal(JsonSerializer.SerializeToUtf8Bytes(KeptOf(change)));

    private WaitingChange Open(byte[] secret) => ChangeOf(JsonSerializer.Deserialize<Kept>(cipher.Open(secret))!);

    private static Kept KeptOf(WaitingChange change) =>
        new(
            change.Schema,
            change.Change.Kind,
            change.Change.Before.Bytes.ToArray(),
            change.Change.After.Bytes.ToArray(),
            change.Position,
            change.Ordinal,
            change.CommittedAt,
            change.SetAsideAt,
            change.State,
            change.Into,
            change.Answer,
            change.Tries,
            change.TriedAt,
            change.EditedBy,
            change.VoidAt,
            change.Trying
        );

    private static WaitingChange ChangeOf(Kept kept) =>
        new(
            kept.Form,
            new RowChange(kept.Kind, 0, new Row(kept.Before), new Row(kept.After)),
            kept.Place,
            kept.Ordinal,
            kept.CommittedAt,
            kept.SetAsideAt,
            kept.State,
            kept.Into,
            kept.Answer,
            kept.Tries,
            kept.TriedAt,
            kept.EditedBy,
            kept.VoidAt,
            kept.Trying
        );

    private sealed record KeptDecision(Kept Change, bool Dropped, string By, DateTimeOffset At, string Words);

    private sealed record Kept(
        TableSchema Form,
        ChangeKind Kind,
        byte[] Before,
        byte[] After,
        LogPosition Place,
        int Ordinal,
        DateTimeOffset CommittedAt,
        DateTimeOffset SetAsideAt,
        WaitingState State,
        TableName? Into,
        string Answer,
        int Tries,
        DateTimeOffset? TriedAt,
        string? EditedBy,
        LogPosition? VoidAt,
        bool Trying
    );
}
