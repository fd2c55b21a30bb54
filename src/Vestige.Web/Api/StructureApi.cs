using Vestige.Engine.Commands;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;

namespace Vestige.Web.Api;

/// <summary>Indexes and constraints that the target of a crossing lacks, over HTTP.</summary>
internal static class StructureApi
{
    private const string By = "api";

    /// <summary>Adds it to the group of crossings.</summary>
    public static void Map(RouteGroupBuilder group)
    {
        group
            .MapGet("/{name}/structure", MissingAsync)
            .Describe(
                "listMissingStructure",
                "Indexes and constraints that source tables have and their copies lack, as after they were added at the source."
            )
            .Answers<IReadOnlyList<MissingPartDocument>>()
            .Refuses(404, 409, 424);
        group
            .MapPost("/{name}/structure", BuildAsync)
            .Describe(
                "buildStructure",
                "Builds indexes and constraints on the target while the crossing follows. An event tells of each when it is built."
            )
            .Answers<StateDocument>()
            .Refuses(404, 409, 424);
    }

    private static async Task<IResult> MissingAsync(string name, CrossingEngine engine, CancellationToken cancellation)
    {
        if (engine.Status(name) is null)
        {
            return Problems.NotFound($"crossing {name}");
        }

        var building = engine.Structure.Running(name);
        IReadOnlyList<MissingPartDocument> found =
        [
            .. (await engine.Structure.MissingAsync(name, cancellation)).Select(part => new MissingPartDocument(
                $"{part.Table}",
                part.Name,
                part.Kind,
                part.Statements,
                building.Any(one => one.Table == part.Table && one.Name == part.Name)
            )),
        ];
        return Results.Ok(found);
    }

    private static Task<IResult> BuildAsync(string name, StructureBody body, CrossingEngine engine, CancellationToken cancellation) =>
        CrossingRunApi.DoAsync(
            name,
            engine,
            () =>
                engine.Structure.BuildAsync(
                    name,
                    [.. (body.Parts ?? []).Select(part => (part.Table ?? "", part.Name ?? ""))],
                    By,
                    cancellation
                )
        );
}
