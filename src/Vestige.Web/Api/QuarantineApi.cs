using Vestige.Core.Changes;
using Vestige.Engine.Faults;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Supervision;
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
        group.MapGet("/", List).WithSummary("What waits since the target refuses it, in the order of the log.");
        group.MapGet("/decided", DecidedAsync).WithSummary("What was dropped or edited, the latest first: there the target differs from the source by somebody's decision.");
        group.MapGet("/{id}", Get).WithSummary("One change: the row before and after, and what would be written.");
        group.MapPost("/{id}/retry", (string name, string id, CrossingEngine engine, CancellationToken cancellation, bool like = false) =>
            DecideAsync(name, id, like, engine, ids => engine.Quarantine.RetryAsync(name, ids, By, cancellation))).WithSummary("Tries it again; with like=true all of the same cause.");
        group.MapPost("/{id}/drop", (string name, string id, DropBody body, CrossingEngine engine, CancellationToken cancellation, bool like = false) =>
            DecideAsync(name, id, like, engine, ids => engine.Quarantine.DropAsync(name, ids, body.Reason ?? "", By, cancellation))).WithSummary("Gives it up, with a reason; with like=true all of the same cause.");
        group.MapPost("/{id}/edit", (string name, string id, EditBody body, CrossingEngine engine, CancellationToken cancellation) =>
            DecideAsync(name, id, false, engine, _ => engine.Quarantine.EditAsync(name, id, body.Values ?? new Dictionary<string, string?>(), By, cancellation))).WithSummary("Changes values of the row, and tries it again.");
    }

    private static IResult List(string name, CrossingEngine engine, ConnectionDirectory connections, string? after = null, int limit = 100)
    {
        if (engine.Status(name) is not { } status || engine.Quarantine.Waiting(name) is not { } waiting)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var (format, treating) = (CrossingApi.FormatOf(status, connections), engine.TreatmentOf(status.Definition));
        var start = after is null ? 0 : waiting.ToList().FindIndex(change => change.Id == after) + 1;
        return Results.Ok(new
        {
            total = waiting.Count,
            rule = status.Definition.Quarantine,
            changes = waiting.Skip(start).Take(Math.Clamp(limit, 1, MostListed)).Select(change => Of(new WaitingView(change, treating), format)),
        });
    }

    private static async Task<IResult> DecidedAsync(string name, CrossingEngine engine, ConnectionDirectory connections, CancellationToken cancellation, int limit = 100)
    {
        if (engine.Status(name) is not { } status || await engine.Quarantine.DecidedAsync(name, Math.Clamp(limit, 1, MostListed), cancellation) is not { } decided)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var (format, treating) = (CrossingApi.FormatOf(status, connections), engine.TreatmentOf(status.Definition));
        return Results.Ok(decided.Select(one => new
        {
            what = one.Dropped ? "dropped" : "edited",
            by = one.By,
            at = StatusView.Rfc3339(one.At),
            words = one.Words,
            change = Of(new WaitingView(one.Change, treating), format),
        }));
    }

    private static IResult Get(string name, string id, CrossingEngine engine, ConnectionDirectory connections)
    {
        if (engine.Status(name) is not { } status || engine.Quarantine.Waiting(name)?.FirstOrDefault(change => change.Id == id) is not { } change)
        {
            return Problems.NotFound($"change {id} in the quarantine of {name}");
        }

        var view = new WaitingView(change, engine.TreatmentOf(status.Definition));
        var written = view.Written(connections.Target(status.Definition.Target)).Select(one => new { into = one.Into, statement = one.Statement, values = one.Values.ToDictionary(value => value.Column, value => value.Value) });
        return Results.Ok(new
        {
            change = Of(view, CrossingApi.FormatOf(status, connections)),
            row = view.Values.Select(value => new { column = value.Column, type = value.Type, before = value.Before, after = value.After, masked = value.Masked }),
            written,
            problem = view.Problem,
        });
    }

    private static object Of(WaitingView view, Func<Core.Positions.LogPosition, string> format) => new
    {
        id = view.Change.Id,
        table = view.Change.Table.ToString(),
        key = view.Key,
        mark = ChangeMarks.Of(view.Change.Change.Kind),
        state = view.Change.State.ToString().ToLowerInvariant(),
        cause = WaitingGroup.CauseOf(view.Change),
        answer = view.Change.Answer,
        position = format(view.Change.Position),
        committedAt = StatusView.Rfc3339(view.Change.CommittedAt),
        setAsideAt = StatusView.Rfc3339(view.Change.SetAsideAt),
        tries = view.Change.Tries,
        editedBy = view.Change.EditedBy,
    };

    private static async Task<IResult> DecideAsync(string name, string id, bool like, CrossingEngine engine, Func<string[], Task> decide)
    {
        var waiting = engine.Quarantine.Waiting(name) ?? [];
        if (waiting.All(change => change.Id != id))
        {
            return Problems.NotFound($"change {id} in the quarantine of {name}");
        }

        string[] ids = like ? [.. WaitingGroup.Like(waiting, id).Select(change => change.Id)] : [id];
        await decide(ids);
        return Results.Ok(new { name, changes = ids.Length });
    }
}
