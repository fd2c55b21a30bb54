using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.Filters;

namespace Vestige.Web.Hosting;

/// <summary>
/// A request for a handler that a page does not have is not found. The framework would render the page without having called any,
/// and so without anything to show.
/// </summary>
internal sealed class KnownHandlersOnly : IPageFilter
{
    public void OnPageHandlerSelected(PageHandlerSelectedContext context)
    {
        // Nothing yet: the choice may still be none.
    }

    public void OnPageHandlerExecuting(PageHandlerExecutingContext context)
    {
        // A page that is only looked at needs no handler for that.
        var request = context.HttpContext.Request;
        var isLook = (HttpMethods.IsGet(request.Method) || HttpMethods.IsHead(request.Method)) && !request.Query.ContainsKey("handler");
        if (context.HandlerMethod is null && context.ActionDescriptor.HandlerMethods.Count > 0 && !isLook)
        {
            context.Result = new NotFoundResult();
        }
    }

    public void OnPageHandlerExecuted(PageHandlerExecutedContext context)
    {
        // Nothing to do.
    }
}
