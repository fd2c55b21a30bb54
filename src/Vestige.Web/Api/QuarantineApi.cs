using Vestige.Core.Changes;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Quarantining;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;
using Vestige.Web.Connections;
using Vestige.Web.Quarantining;

namespace Vestige.Web.Api;

/// <summary>What waits in quarantine, over HTTP.</summary>
public static class QuarantineApi
{
    private const string By = "api";
    private const int MostListed = 1000;

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/crossings/{name}/quarantine").WithTags("quarantine");
        group
            .MapGet("/", List)
            .Describe("listQuarantine", "The changes that the target refused and that wait, in the order of the log.")
            .Answers<QuarantineDocument>()
            .Refuses(404);
        group
            .MapGet("/decided", DecidedAsync)
            .Describe(
                "listDecided",
                "The changes that a person dropped or edited, the latest first. There the target differs from the source by decision."
            )
            .Answers<IReadOnlyList<DecidedDocument>>()
            .Refuses(404);
        group
            .MapGet("/{id}", Get)
            .Describe("getQuarantined", "One change that waits: the row before and after, and what would be written.")
            .Answers<QuarantinedRowDocument>()
            .Refuses(404);
        group
            .MapPost("/{id}/retry", (string name, string id, CrossingEngine engine, CancellationToken cancellation, bool like = false) =>
                DecideAsync(name, id, like, engine, ids => engine.Quarantine.RetryAsync(name, ids, By, cancellation))
            )
            .Describe("retryQuarantined", "Tries a change again; with like=true all of the same cause.")
            .Answers<DecisionDocument>()
            .Refuses(404, 409);
        group
            .MapPost(
                "/{id}/drop",
                (string name, string id, DropBody body, CrossingEngine engine, CancellationToken cancellation, bool like = false) =>
                    DecideAsync(name, id, like, engine, ids => engine.Quarantine.DropAsync(name, ids, body.Reason ?? "", By, cancellation))
            )
            .Describe("dropQuarantined", "Drops a change, with a reason; with like=true all of the same cause.")
            .Answers<DecisionDocument>()
            .Refuses(404, 409, 422);
        group
            .MapPost("/{id}/edit", (string name, string id, EditBody body, CrossingEngine engine, CancellationToken cancellation) =>
                DecideAsync(name, id, false, engine, _ =>
                    engine.Quarantine.EditAsync(name, id, body.Values ?? new Dictionary<string, string?>(), By, cancellation)
                )
            )
            .Describe("editQuarantined", "Changes values of the row and tries it again.")
            .Answers<DecisionDocument>()
            .Refuses(404, 409, 422);
    }

    private static IResult List(string name, CrossingEngine engine, ConnectionDirectory connections, string? after = null, int limit = 100)
    {
        if (engine.Status(name) is not { } status || engine.Quarantine.Waiting(name) is not { } waiting)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var (format, treating) = (CrossingApi.FormatOf(status, connections), engine.TreatmentOf(status.Definition));
        var start = after is null ? 0 : waiting.ToList().FindIndex(change => change.Id == after) + 1;
        return Results.Ok(
            new QuarantineDocument(
                Total: waiting.Count,
                Rule: status.Definition.Quarantine,
                Changes:
                [
                    .. waiting
                        .Skip(start)
                        .Take(Math.Clamp(limit, 1, MostListed))
                        .Select(change => Of(new WaitingView(change, treating), format)),
                ]
            )
        );
    }

    private static async Task<IResult> DecidedAsync(
        string name,
        CrossingEngine engine,
        ConnectionDirectory connections,
        CancellationToken cancellation,
        int limit = 100
    )
    {
        if (
            engine.Status(name) is not { } status
            || await engine.Quarantine.DecidedAsync(name, Math.Clamp(limit, 1, MostListed), cancellation) is not { } decided
        )
        {
            return Problems.NotFound($"crossing {name}");
        }

        var (format, treating) = (CrossingApi.FormatOf(status, connections), engine.TreatmentOf(status.Definition));
        return Results.Ok(
            decided.Select(one => new DecidedDocument(
                What: one.Dropped ? "dropped" : "edited",
                By: one.By,
                At: StatusView.Rfc3339(one.At),
                Words: one.Words,
                Change: Of(new WaitingView(one.Change, treating), format)
            ))
        );
    }

    private static IResult Get(string name, string id, CrossingEngine engine, ConnectionDirectory connections)
    {
        if (
            engine.Status(name) is not { } status
            || engine.Quarantine.Waiting(name)?.FirstOrDefault(change => change.Id == id) is not { } change
        )
        {
            return Problems.NotFound($"change {id} in the quarantine of {name}");
        }

        var view = new WaitingView(change, engine.TreatmentOf(status.Definition));
        List<WrittenDocument> written =
        [
            .. view.Written(connections.Target(status.Definition.Target))
                .Select(one => new WrittenDocument(
                    Into: one.Into,
                    Statement: one.Statement,
                    Values: one.Values.ToDictionary(value => value.Column, value => value.Value)
                )),
        ];
        return Results.Ok(
            new QuarantinedRowDocument(
                Change: Of(view, CrossingApi.FormatOf(status, connections)),
                Row:
                [
                    .. view.Values.Select(value => new QuarantinedValueDocument(
                        Column: value.Column,
                        Type: value.Type,
                        Before: value.Before,
                        After: value.After,
                        Masked: value.Masked
                    )),
                ],
                Written: written,
                Problem: view.Problem
            )
        );
    }

    private static QuarantinedDocument Of(WaitingView view, Func<Core.Positions.LogPosition, string> format) =>
        new QuarantinedDocument(
            Id: view.Change.Id,
            Table: view.Change.Table.ToString(),
            Key: view.Key,
            Mark: ChangeSymbols.Of(view.Change.Change.Kind),
            State: view.Change.State.ToString().ToLowerInvariant(),
            Cause: WaitingGroup.CauseOf(view.Change),
            Answer: view.Change.Answer,
            Position: format(view.Change.Position),
            CommittedAt: StatusView.Rfc3339(view.Change.CommittedAt),
            SetAsideAt: StatusView.Rfc3339(view.Change.SetAsideAt),
            Tries: view.Change.Tries,
            EditedBy: view.Change.EditedBy
        );

    private static async Task<IResult> DecideAsync(string name, string id, bool like, CrossingEngine engine, Func<string[], Task> decide)
    {
        var waiting = engine.Quarantine.Waiting(name) ?? [];
        if (waiting.All(change => change.Id != id))
        {
            return Problems.NotFound($"change {id} in the quarantine of {name}");
        }

        string[] ids = like ? [.. WaitingGroup.Like(waiting, id).Select(change => change.Id)] : [id];
        await decide(ids);
        return Results.Ok(new DecisionDocument(Name: name, Changes: ids.Length));
    }
}
