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

/// <summary>Quarantined changes in the store of the data folder, each sealed as a whole.</summary>
public sealed class QuarantineStore(StoreFactory factory, ISpoolCipher cipher) : IQuarantineStore
{
    public async Task<IReadOnlyList<WaitingChange>> ReadAsync(string crossing, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var records = await store.Waiting.AsNoTracking().Where(change => change.Crossing == crossing).Select(change => change.Sealed).ToListAsync(cancellation);
        return [.. records.Select(Open).OrderBy(change => change.Position).ThenBy(change => change.Ordinal)];
    }

    public Task WriteAsync(string crossing, IReadOnlyList<WaitingChange> kept, IReadOnlyList<string> dropped, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(kept);
        return factory.ChangeAsync(
            "The quarantine",
            async store =>
            {
                foreach (var change in kept)
                {
                    var (id, secret) = (change.Id, Seal(change));
                    await store.Database.ExecuteSqlAsync(
                        $"""INSERT INTO "Waiting" ("Crossing", "Id", "Sealed") VALUES ({crossing}, {id}, {secret}) ON CONFLICT ("Crossing", "Id") DO UPDATE SET "Sealed" = excluded."Sealed" """,
                        cancellation);
                }

                await store.Waiting.Where(change => change.Crossing == crossing && dropped.Contains(change.Id)).ExecuteDeleteAsync(cancellation);
            },
            cancellation);
    }

    private byte[] Seal(WaitingChange change) => cipher.Seal(JsonSerializer.SerializeToUtf8Bytes(new Kept(
        change.Form,
        change.Change.Kind,
        change.Change.Before.Bytes.ToArray(),
        change.Change.After.Bytes.ToArray(),
        change.Position.Place,
        change.Ordinal,
        change.CommittedAt,
        change.SetAsideAt,
        change.State,
        change.Into,
        change.Answer,
        change.Tries,
        change.TriedAt,
        change.EditedBy,
        change.VoidAt?.Place,
        change.Trying)));

    private WaitingChange Open(byte[] secret)
    {
        var kept = JsonSerializer.Deserialize<Kept>(cipher.Open(secret))!;
        return new WaitingChange(
            kept.Form,
            new RowChange(kept.Kind, 0, new Row(kept.Before), new Row(kept.After)),
            new LogPosition(kept.Place),
            kept.Ordinal,
            kept.CommittedAt,
            kept.SetAsideAt,
            kept.State,
            kept.Into,
            kept.Answer,
            kept.Tries,
            kept.TriedAt,
            kept.EditedBy,
            kept.VoidAt is { } place ? new LogPosition(place) : null,
            kept.Trying);
    }

    private sealed record Kept(
        TableSchema Form,
        ChangeKind Kind,
        byte[] Before,
        byte[] After,
        ulong Place,
        int Ordinal,
        DateTimeOffset CommittedAt,
        DateTimeOffset SetAsideAt,
        WaitingState State,
        TableName? Into,
        string Answer,
        int Tries,
        DateTimeOffset? TriedAt,
        string? EditedBy,
        ulong? VoidAt,
        bool Trying);
}
