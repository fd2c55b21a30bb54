using System.Text;
using System.Text.Json;
using Vestige.Core.Crossings;
using Vestige.Web.Api;
using Vestige.Web.Hosting;

namespace Vestige.Web.Definitions;

/// <summary>The body of a request that holds a definition, as JSON or as YAML (RFC 9512).</summary>
public sealed class DefinitionBody(ReadDefinition read)
{
    public const string Yaml = "application/yaml";

    public CrossingDefinition? Definition => read.Definition;

    /// <summary>Why the text could not be read; empty when it could.</summary>
    public IReadOnlyList<LocatedProblem> Problems => read.Problems;

    public LocatedProblem Placed(DefinitionProblem problem) => read.Placed(problem);

    /// <summary>Called by the framework. JSON that cannot be read is refused as in every other request.</summary>
    public static async ValueTask<DefinitionBody?> BindAsync(HttpContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        if (context.Request.ContentType?.StartsWith(Yaml, StringComparison.OrdinalIgnoreCase) == true)
        {
            using var reader = new StreamReader(await WholeAsync(context), Encoding.UTF8);
            return new DefinitionBody(DefinitionYaml.Read(await reader.ReadToEndAsync(context.RequestAborted)));
        }

        if (!context.Request.HasJsonContentType())
        {
            throw new BadHttpRequestException(
                $"The definition is read as application/json or {Yaml}.",
                StatusCodes.Status415UnsupportedMediaType
            );
        }

        try
        {
            var definition = await JsonSerializer.DeserializeAsync<CrossingDefinition>(
                await WholeAsync(context),
                DefinitionJson.Options,
                context.RequestAborted
            );
            return new DefinitionBody(
                new ReadDefinition(
                    definition ?? throw new JsonException("There is no document."),
                    [],
                    new Dictionary<string, DefinitionLocation>()
                )
            );
        }
        catch (JsonException exception)
        {
            throw new BadHttpRequestException("The document cannot be read.", exception);
        }
    }

    /// <summary>Read whole before anything looks into it, and no more of it than a definition may have.</summary>
    private static async Task<MemoryStream> WholeAsync(HttpContext context)
    {
        var body = new MemoryStream();
        var buffer = new byte[16 << 10];
        int read;
        while ((read = await context.Request.Body.ReadAsync(buffer, context.RequestAborted)) > 0)
        {
            if (body.Length + read > RequestLimits.LongestDefinition)
            {
                throw new BadHttpRequestException(
                    $"A definition has at most {RequestLimits.LongestDefinition} bytes.",
                    StatusCodes.Status413PayloadTooLarge
                );
            }

            body.Write(buffer, 0, read);
        }

        body.Position = 0;
        return body;
    }
}
