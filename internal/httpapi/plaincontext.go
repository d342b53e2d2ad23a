package httpapi

import (
	"reflect"

	"github.com/gin-gonic/gin"

	"plumlatch/internal/httpapi/contract"
)

// plainContext has each operation called with the context of its request. The generated code gives
// gin's own, which is used again for later requests, and which database/sql may still look at when
// an answer is out.
func plainContext(operations contract.StrictServerInterface) contract.StrictMiddlewareFunc {
	all := reflect.ValueOf(operations)
	return func(_ contract.StrictHandlerFunc, operation string) contract.StrictHandlerFunc {
		return func(c *gin.Context, request any) (any, error) {
			given := []reflect.Value{reflect.ValueOf(c.Request.Context()), reflect.ValueOf(request)}
			out := all.MethodByName(operation).Call(given)
			err, _ := out[1].Interface().(error)
			return out[0].Interface(), err
		}
	}
}
